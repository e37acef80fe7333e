package functions

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/words"
)

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	_ = e.Encode(v)
}

// Failure is the answer of a call that failed.
type Failure struct {
	Function string `json:"function,omitempty"`
	Call     int64  `json:"call,omitempty"`
	Message  string `json:"error"`
	Stack    string `json:"stack,omitempty"`
}

// call is one call of a function.
type call struct {
	server *Server
	name   string
	id     int64

	mu   sync.Mutex
	size int // of what it printed
	left int64
}

// printLimit is how much of what a call prints is kept, in bytes.
const printLimit = 1 << 20

// printed logs a line that the function printed.
func (c *call) printed(line string) {
	c.mu.Lock()
	c.size += len(line) + 1
	over := c.size > printLimit
	first := over && c.left == 0
	if over {
		c.left += int64(len(line)) + 1
	}
	c.mu.Unlock()
	switch {
	case first:
		c.server.Log.Printf("warning: %s %d: it prints more than %s; the rest is left out", c.name, c.id, words.Bytes(printLimit))
	case !over:
		c.server.Log.Printf("%s %d: %s", c.name, c.id, line)
	}
}

// tooMuch says that a function took more memory than it may.
type tooMuch struct {
	used uint64
	may  int64
}

func (e *tooMuch) Error() string {
	return fmt.Sprintf("it took %s of memory, and may take %s; it was ended", words.Bytes(e.used), words.Bytes(uint64(e.may)))
}

// errBusy says that too many calls wait.
var errBusy = errors.New("too many calls wait for it already")

// mostWaiting is how many calls of a function may wait.
const mostWaiting = 1000

// call answers a call.
func (s *Server) call(w http.ResponseWriter, r *http.Request) {
	name, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if _, rest, below := strings.Cut(strings.TrimPrefix(r.URL.EscapedPath(), "/"), "/"); below {
		path = "/" + path
		if rest == "" {
			path = "/"
		}
	}
	wait, fate := s.Misbehave.Rules().Draw()
	misbehave.Wait(r.Context(), wait)
	switch fate {
	case misbehave.Failed:
		reply(w, http.StatusInternalServerError, Failure{Message: "it misbehaves, as it was told to"})
		return
	case misbehave.Throttled:
		w.Header().Set("Retry-After", "1")
		reply(w, http.StatusTooManyRequests, Failure{Message: "it misbehaves, as it was told to"})
		return
	case misbehave.Cut:
		w = misbehave.CutOff(w)
	}
	all, _ := s.look()
	f := all[name]
	if f == nil {
		text := fmt.Sprintf("there is no function %q; there are: %s", name, s.names(all))
		if len(all) == 0 {
			text = fmt.Sprintf("there is no function %q, and none at all in %s", name, s.config.Dir)
		}
		reply(w, http.StatusNotFound, Failure{Message: text})
		return
	}
	c := &call{server: s, name: name, id: s.next.Add(1)}
	began := time.Now()
	out := &answering{ResponseWriter: w}
	p, err := s.slot(r.Context(), f)
	if err != nil {
		s.count(f, began, err)
		s.fail(out, r, f, c, err)
		return
	}
	defer func() { <-p.slots }()
	// Only now, since what waits must take no room; and for as long as a call may take.
	limit := http.NewResponseController(w)
	_ = limit.SetReadDeadline(time.Now().Add(f.Time))
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, bodyLimit))
	_ = limit.SetReadDeadline(time.Time{})
	if err != nil {
		status := http.StatusBadRequest
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			status, err = http.StatusRequestEntityTooLarge, fmt.Errorf("the body is larger than %s", words.Bytes(bodyLimit))
		}
		reply(w, status, Failure{Function: name, Message: err.Error()})
		return
	}
	err = s.carry(out, r, f, c, path, body, p)
	s.count(f, began, err)
	if err == nil {
		return
	}
	begun := out.begun
	s.fail(out, r, f, c, err)
	if begun {
		panic(http.ErrAbortHandler) // what was sent is not the whole answer
	}
}

// answering notes whether an answer has begun, and lets none begin after that.
type answering struct {
	http.ResponseWriter
	begun bool
}

func (a *answering) Unwrap() http.ResponseWriter { return a.ResponseWriter }

func (a *answering) WriteHeader(status int) {
	a.begun = true
	a.ResponseWriter.WriteHeader(status)
}

// slot waits until a call may go on, and returns what ends that.
func (s *Server) slot(ctx context.Context, f *function) (*pool, error) {
	s.mu.Lock()
	p := s.pools[f.name]
	if p == nil || cap(p.slots) != f.AtOnce {
		fresh := &pool{slots: make(chan struct{}, f.AtOnce)}
		if p != nil {
			p.prune(time.Time{}, true)
		}
		p = fresh
		s.pools[f.name] = p
	}
	s.mu.Unlock()
	if p.waits.Add(1) > mostWaiting {
		p.waits.Add(-1)
		return nil, errBusy
	}
	defer p.waits.Add(-1)
	select {
	case p.slots <- struct{}{}:
		return p, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// errTime is why the context of a call ends that took too long.
var errTime = errors.New("it took too long")

// carry has a call made. Its error is told to who called.
func (s *Server) carry(w http.ResponseWriter, r *http.Request, f *function, c *call, path string, body []byte, p *pool) (err error) {
	ctx, cancel := context.WithTimeoutCause(r.Context(), f.Time, errTime)
	defer cancel()
	defer context.AfterFunc(s.closed, cancel)()
	if f.language == "" {
		err = s.runProgram(ctx, w, r, f, c, path, body)
	} else {
		err = s.runModule(ctx, w, r, f, c, path, body, p)
	}
	if err != nil && ctx.Err() != nil && context.Cause(ctx) == errTime {
		return errTime
	}
	return err
}

func (s *Server) runModule(ctx context.Context, w http.ResponseWriter, r *http.Request, f *function, c *call, path string, body []byte, p *pool) error {
	s.mu.Lock()
	round := s.round
	s.mu.Unlock()
	h := head{ID: c.id, Method: r.Method, Path: path, Body: int64(len(body)), URL: "http://" + r.Host + (&url.URL{Path: path, RawQuery: r.URL.RawQuery}).RequestURI(), Headers: [][2]string{}}
	for name, values := range r.Header {
		for _, v := range values {
			h.Headers = append(h.Headers, [2]string{name, v})
		}
	}
	run := p.take(round)
	if run == nil {
		var err error
		if run, err = s.startRunner(ctx, f, round, c); err != nil {
			s.loaded(f.name, err)
			return err
		}
		s.loaded(f.name, nil)
	}
	run.call.Store(c)
	answer, err := run.send(ctx, h, body)
	if err != nil {
		run.end()
		if used := run.over.Load(); used > 0 {
			return &tooMuch{used, f.Memory}
		}
		if errors.Is(err, errEnded) {
			run.settle()
			return fmt.Errorf("its process ended in the midst of the call: %s", exitWords(run.process))
		}
		return err
	}
	if answer.Error != nil {
		run.settle()
		run.call.Store(nil)
		if answer.Ended {
			run.end()
		} else {
			p.put(run)
		}
		return answer.Error
	}
	for _, pair := range answer.Headers {
		switch strings.ToLower(pair[0]) {
		case "connection", "transfer-encoding", "content-length":
			continue
		}
		w.Header().Add(pair[0], pair[1])
	}
	if answer.Status < 200 || answer.Status > 599 {
		_, _ = io.CopyN(io.Discard, run.out, answer.Body)
		run.settle()
		p.put(run)
		return fmt.Errorf("it answered with status %d, which is none of HTTP", answer.Status)
	}
	w.WriteHeader(answer.Status)
	stop := context.AfterFunc(ctx, run.end)
	_, err = io.CopyN(w, run.out, answer.Body)
	if !stop() || err != nil {
		run.end() // the rest of the answer is in its way
		return nil
	}
	run.settle()
	run.call.Store(nil)
	p.put(run)
	return nil
}

// fail tells who called why the call failed, and has the log say it.
func (s *Server) fail(w *answering, r *http.Request, f *function, c *call, err error) {
	out := Failure{Function: f.name, Call: c.id, Message: err.Error()}
	status := http.StatusInternalServerError
	var own *thrown
	var garbled *notHTTP
	switch {
	case errors.Is(err, context.Canceled):
		s.Log.Printf("warning: %s %d: who called did not wait for the answer", f.name, c.id)
		return
	case errors.Is(err, errTime):
		status, out.Message = http.StatusGatewayTimeout, fmt.Sprintf("it had not answered after %s, which is its limit; it was ended", f.Time)
	case errors.As(err, &own):
		out.Stack = own.Stack
	case errors.As(err, &garbled):
		status = http.StatusBadGateway
	case errors.Is(err, errBusy):
		status = http.StatusServiceUnavailable
		w.Header().Set("Retry-After", "1")
	}
	text := out.Message
	if out.Stack != "" && strings.Contains(out.Stack, out.Message) {
		text = out.Stack
	} else if out.Stack != "" {
		text += "\n" + out.Stack
	}
	s.Log.Printf("error: %s %d: %s", f.name, c.id, strings.TrimRight(text, "\n"))
	if !w.begun {
		reply(w, status, out)
	}
}
