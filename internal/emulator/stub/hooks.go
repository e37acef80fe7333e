package stub

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"time"

	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/record/outbox"
	"neighbour/internal/core/record/traffic"
)

// hook is a webhook with its templates.
type hook struct {
	Hook
	name       string
	body, sign *template.Template
}

// waiting is what is kept of a webhook until it has arrived.
type waiting struct {
	Body string `json:"body"`
	// Until is when it may be sent.
	Until time.Time `json:"until"`
	// Trace is the X-Request-Id of the request that led to it.
	Trace string `json:"trace,omitempty"`
}

// hookTime is how long the receiver of a webhook may take.
const hookTime = 15 * time.Second

// runHooks sends webhooks until the context ends.
func (s *Server) runHooks(ctx context.Context) {
	var all sync.WaitGroup
	for name, h := range s.hooks {
		all.Go(func() {
			err := s.box.Run(ctx, name, outbox.Config{Tries: max(h.Tries, 0), AtOnce: 8,
				Send: func(ctx context.Context, d outbox.Delivery) outbox.Outcome { return s.sendHook(ctx, h, d) },
				Note: func(d outbox.Delivery) { s.noteHook(h, d) },
			})
			if err != nil && ctx.Err() == nil {
				s.Log.Printf("error: webhook %s: %v", name, err)
			}
		})
	}
	all.Wait()
}

// fire has a webhook be sent about what a request was and was answered.
func (s *Server) fire(ctx context.Context, h *hook, data map[string]any, by string) (int64, error) {
	body, err := render(h.body, data)
	if err != nil {
		return 0, fmt.Errorf("webhook %s: %w", h.name, err)
	}
	if h.body == nil {
		b, err := json.Marshal(data["answer"])
		if err != nil {
			return 0, err
		}
		body = string(b)
	}
	trace, _ := at(data, "headers.x-request-id")
	id, _ := trace.(string)
	w, err := json.Marshal(waiting{body, time.Now().Add(h.Delay), id})
	if err != nil {
		return 0, err
	}
	// Each is on its own: that one can't be sent holds up no other.
	return s.box.Fire(ctx, h.name, by, outbox.Event{Key: strconv.FormatInt(time.Now().UnixNano(), 36), Type: "webhook", Subject: h.name, Data: w})
}

// sign returns the headers by which a receiver can tell that a webhook is genuine: as the
// specification Standard Webhooks 1.0 has them, or as declared.
func (s *Server) sign(h *hook, id string, at time.Time, body string) (map[string]string, error) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	if h.Header == "" {
		key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(s.config.Secret, "whsec_"))
		if err != nil || !strings.HasPrefix(s.config.Secret, "whsec_") {
			key = []byte(s.config.Secret)
		}
		return map[string]string{"webhook-id": id, "webhook-timestamp": stamp, "webhook-signature": "v1," + base64.StdEncoding.EncodeToString(mac(key, id+"."+stamp+"."+body))}, nil
	}
	key := []byte(s.config.Secret)
	plain, stamped := mac(key, body), mac(key, stamp+"."+body)
	value := hex.EncodeToString(plain)
	if h.sign != nil {
		var err error
		value, err = render(h.sign, map[string]any{"timestamp": stamp, "id": id, "hex": hex.EncodeToString(plain), "base64": base64.StdEncoding.EncodeToString(plain),
			"stamped_hex": hex.EncodeToString(stamped), "stamped_base64": base64.StdEncoding.EncodeToString(stamped)})
		if err != nil {
			return nil, err
		}
	}
	return map[string]string{h.Header: value}, nil
}

func mac(key []byte, text string) []byte {
	m := hmac.New(sha256.New, key)
	m.Write([]byte(text))
	return m.Sum(nil)
}

// hookRequest returns the request that a webhook is.
func (s *Server) hookRequest(ctx context.Context, h *hook, d outbox.Delivery) (*http.Request, waiting, error) {
	var w waiting
	if err := json.Unmarshal(d.Data, &w); err != nil {
		return nil, w, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.To, strings.NewReader(w.Body))
	if err != nil {
		return nil, w, err
	}
	req.Header.Set("Content-Type", "text/plain; charset=utf-8")
	if json.Valid([]byte(w.Body)) {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("User-Agent", "neighbour")
	if w.Trace != "" {
		req.Header.Set("X-Request-Id", w.Trace)
	}
	for name, value := range h.Headers {
		req.Header.Set(name, value)
	}
	if s.config.Secret != "" {
		signed, err := s.sign(h, "hook_"+strconv.FormatInt(d.ID, 36), time.Now(), w.Body)
		if err != nil {
			return nil, w, err
		}
		for name, value := range signed {
			req.Header.Set(name, value)
		}
	}
	return req, w, nil
}

func (s *Server) sendHook(ctx context.Context, h *hook, d outbox.Delivery) (out outbox.Outcome) {
	req, w, err := s.hookRequest(ctx, h, d)
	if err != nil {
		return outbox.Outcome{Problem: err.Error(), Never: true}
	}
	wait := time.Until(w.Until)
	if wait > 0 {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return outbox.Outcome{Problem: ctx.Err().Error()}
		}
	}
	ctx, cancel := context.WithTimeout(ctx, hookTime)
	defer cancel()
	s.beginHook(h, d, req, w)
	out.Waited = max(0, wait)
	resp, err := s.http.Do(req.WithContext(ctx))
	if err != nil {
		out.Problem = probe.Explain(err)
		return out
	}
	defer resp.Body.Close()
	out.Status = resp.StatusCode
	if out.Answer, err = io.ReadAll(io.LimitReader(resp.Body, 64<<10)); err != nil {
		out.Problem = "the answer broke off"
	} else if resp.StatusCode >= 300 {
		out.Problem = "it answered " + resp.Status
	}
	return out
}

// beginHook has what is sent be seen among what passes.
func (s *Server) beginHook(h *hook, d outbox.Delivery, req *http.Request, w waiting) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sent[d.ID] != nil {
		return
	}
	f := &traffic.Full{RequestHeader: req.Header.Clone(), Request: traffic.Body{Data: []byte(w.Body)}}
	f.ID, f.What, f.Event, f.Began, f.Method, f.Scheme, f.Host, f.Path, f.Proto, f.Sent = d.ID, traffic.Webhook, h.name+" → "+req.URL.Host+req.URL.Path, time.Now(), req.Method, req.URL.Scheme, req.URL.Host, req.URL.RequestURI(), "HTTP/1.1", int64(len(w.Body))
	f.State, f.Of, f.Trace = "waiting", d.By, w.Trace
	const most = 1000
	if len(s.sent) >= most {
		clear(s.sent)
	}
	s.sent[d.ID] = f
	s.Calls.Begin(f)
}

func (s *Server) noteHook(h *hook, d outbox.Delivery) {
	switch d.State {
	case outbox.Done:
		s.Log.Printf("webhook %s arrived at %s: %d", h.name, h.To, d.Status)
	case outbox.Aside:
		s.Log.Printf("error: webhook %s is put aside after %d tries: %s", h.name, d.Tries, d.Problem)
	default:
		s.Log.Printf("warning: webhook %s: %s; it is tried again", h.name, d.Problem)
	}
	s.mu.Lock()
	f := s.sent[d.ID]
	s.mu.Unlock()
	if f == nil {
		return
	}
	change := func(f *traffic.Full) {
		f.Status, f.State, f.Tries, f.Problem, f.TookMS = d.Status, d.State.String(), d.Tries, d.Problem, float64(d.Took.Microseconds())/1000
		f.Response, f.Received, f.Header = traffic.Body{Data: bytes.Clone(d.Answer)}, int64(len(d.Answer)), http.Header{}
		if json.Valid(d.Answer) && len(d.Answer) > 0 {
			f.Header.Set("Content-Type", "application/json")
		} else {
			f.Header.Set("Content-Type", "text/plain; charset=utf-8")
		}
	}
	if d.State == outbox.Waiting {
		s.Calls.Amend(f, change)
		return
	}
	s.Calls.End(f, change)
}

// The addresses of webhooks.
const hooksPath = "/-/webhooks"

func (s *Server) handleHooks(mux *http.ServeMux) {
	mux.HandleFunc("GET "+hooksPath, func(w http.ResponseWriter, _ *http.Request) {
		var names []string
		for n := range s.hooks {
			names = append(names, n)
		}
		slices.Sort(names)
		all, err := s.box.List("", true, 0, 200)
		if err != nil {
			fail(w, http.StatusInternalServerError, err.Error())
			return
		}
		out := []SentHook{}
		for _, d := range all {
			out = append(out, SentHook{d.ID, d.Sender, d.State.String(), d.Tries, d.Status, d.Problem, time.UnixMicro(d.ID)})
		}
		reply(w, http.StatusOK, map[string]any{"webhooks": names, "sent": out})
	})
	mux.HandleFunc("POST "+hooksPath+"/{name}/send", func(w http.ResponseWriter, r *http.Request) {
		h := s.hooks[r.PathValue("name")]
		if h == nil {
			fail(w, http.StatusNotFound, fmt.Sprintf("there is no webhook %q", r.PathValue("name")))
			return
		}
		data := map[string]any{}
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, bodyLimit)).Decode(&data); err != nil && err != io.EOF { //nolint:errorlint // Decode returns it as it is
			fail(w, http.StatusBadRequest, "the body is to be a JSON object: what the template is filled in with")
			return
		}
		for _, part := range []string{"body", "answer", "query", "path", "state", "headers"} {
			if _, has := data[part]; !has {
				data[part] = map[string]any{}
			}
		}
		id, err := s.fire(r.Context(), h, data, "by hand")
		if err != nil {
			fail(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		reply(w, http.StatusAccepted, map[string]int64{"id": id})
	})
	again := func(do func(ctx context.Context, id int64) (int64, error)) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
			if err == nil {
				id, err = do(r.Context(), id)
			}
			if err != nil {
				fail(w, http.StatusUnprocessableEntity, err.Error())
				return
			}
			reply(w, http.StatusOK, map[string]int64{"id": id})
		}
	}
	mux.HandleFunc("POST "+traffic.Path+"/{id}/retry", again(func(ctx context.Context, id int64) (int64, error) { return s.box.Retry(ctx, id, "by hand") }))
	mux.HandleFunc("POST "+traffic.Path+"/{id}/drop", again(func(_ context.Context, id int64) (int64, error) {
		err := s.box.Drop(id)
		s.mu.Lock()
		f := s.sent[id]
		s.mu.Unlock()
		if err == nil && f != nil {
			s.Calls.Amend(f, func(f *traffic.Full) { f.State = traffic.Dropped })
		}
		return id, err
	}))
}

// SentHook is a webhook that was sent, or waits.
type SentHook struct {
	ID      int64     `json:"id"`
	Name    string    `json:"name"`
	State   string    `json:"state"`
	Tries   int       `json:"tries"`
	Status  int       `json:"status,omitempty"`
	Problem string    `json:"problem,omitempty"`
	At      time.Time `json:"at"`
}
