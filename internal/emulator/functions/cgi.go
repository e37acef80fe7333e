package functions

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// metaVariables are the variables of a request (RFC 3875, section 4.1).
func metaVariables(r *http.Request, f *function, path string, length int) []string {
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		host, port = r.Host, "80"
	}
	from, _, _ := net.SplitHostPort(r.RemoteAddr)
	env := []string{
		"GATEWAY_INTERFACE=CGI/1.1", "SERVER_SOFTWARE=neighbour", "SERVER_PROTOCOL=" + r.Proto, "SERVER_NAME=" + host, "SERVER_PORT=" + port,
		"REQUEST_METHOD=" + r.Method, "SCRIPT_NAME=/" + f.name, "QUERY_STRING=" + r.URL.RawQuery, "REMOTE_ADDR=" + from, "REMOTE_HOST=" + from,
		"REQUEST_URI=" + r.URL.RequestURI(),
	}
	if path != "" {
		env = append(env, "PATH_INFO="+path)
	}
	if f.file != "" {
		env = append(env, "SCRIPT_FILENAME="+f.file)
	}
	if length > 0 {
		env = append(env, "CONTENT_LENGTH="+strconv.Itoa(length))
	}
	if t := r.Header.Get("Content-Type"); t != "" {
		env = append(env, "CONTENT_TYPE="+t)
	}
	for name, values := range r.Header {
		switch name {
		// A header of that name would be taken for the address of a proxy.
		case "Proxy", "Content-Type", "Content-Length":
			continue
		}
		variable := "HTTP_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		text := strings.Join(values, ", ")
		if name == "Cookie" {
			text = strings.Join(values, "; ")
		}
		if !strings.ContainsRune(text, 0) {
			env = append(env, variable+"="+text)
		}
	}
	return env
}

// notHTTP says that a program's answer can't be passed on.
type notHTTP struct{ why string }

func (e *notHTTP) Error() string { return e.why }

// drainTime is how long output is read for after a program has ended.
const drainTime = 50 * time.Millisecond

// headerLimit is how long the headers of a program's answer may be, in bytes.
const headerLimit = 64 << 10

// runProgram runs a program once for a call, and passes its answer on.
func (s *Server) runProgram(ctx context.Context, w http.ResponseWriter, r *http.Request, f *function, c *call, path string, body []byte) error {
	program := f.argv[0]
	if !strings.Contains(program, "/") {
		found, err := exec.LookPath(program)
		if err != nil {
			return &errNoRunner{program}
		}
		program = found
	}
	cmd := exec.Command(program, f.argv[1:]...)
	if cmd.Dir = s.config.Dir; f.file != "" {
		cmd.Dir = filepath.Dir(f.file)
	} else if _, err := os.Stat(cmd.Dir); errors.Is(err, os.ErrNotExist) {
		cmd.Dir = "" // there are commands only: they run where the service does
	}
	cmd.Env = environment(metaVariables(r, f, path, len(body))...)
	cmd.Stdin = bytes.NewReader(body)
	// What it starts may hold its output open for longer than it runs itself.
	cmd.WaitDelay = killWait
	stdout, out, err := os.Pipe()
	if err != nil {
		return err
	}
	defer stdout.Close()
	stderr, outErr, err := os.Pipe()
	if err != nil {
		return errors.Join(err, out.Close())
	}
	defer stderr.Close()
	cmd.Stdout, cmd.Stderr = out, outErr
	p, err := start(cmd)
	_, _ = out.Close(), outErr.Close()
	if err != nil {
		return err
	}
	go func() {
		_ = cmd.Wait()
		p.release()
		close(p.done)
		// What is in the pipes is read, and no more is waited for.
		_, _ = stdout.SetReadDeadline(time.Now().Add(drainTime)), stderr.SetReadDeadline(time.Now().Add(drainTime))
	}()
	var reading sync.WaitGroup
	reading.Go(func() { readLines(stderr, c.printed, nil) })
	stop := context.AfterFunc(ctx, p.end)
	defer stop()
	var over atomic.Uint64
	if f.Memory > 0 {
		go p.watch(f.Memory, func(used uint64) { over.Store(used) })
	}
	problem := passOn(w, stdout)
	if problem != nil {
		p.end() // nobody reads the rest
	}
	<-p.done // it ends, or is ended when its time is over
	p.end()  // what it has left behind
	reading.Wait()
	switch {
	case ctx.Err() != nil && (problem != nil || exitWords(p) != "exit 0"): // else who called has the answer, and may go
		return ctx.Err()
	case over.Load() > 0:
		return &tooMuch{over.Load(), f.Memory}
	case problem != nil:
		if words := exitWords(p); words != "exit 0" && !strings.Contains(words, "killed") {
			return fmt.Errorf("%s; %w", words, problem)
		}
		return problem
	}
	if words := exitWords(p); words != "exit 0" {
		s.Log.Printf("error: %s %d: its program ended with %s", c.name, c.id, words)
	}
	return nil
}

// passOn passes a program's answer on (RFC 3875, section 6). Its error is a *notHTTP if there
// is none that can be understood.
func passOn(w http.ResponseWriter, from io.Reader) error {
	limited := &io.LimitedReader{R: from, N: headerLimit}
	in := bufio.NewReader(limited)
	first, err := in.Peek(1)
	if err != nil || len(first) == 0 {
		return &notHTTP{"it printed no answer; print the header Content-Type: text/plain, an empty line, and then the text"}
	}
	start, _ := in.Peek(min(80, in.Buffered()))
	header, err := textproto.NewReader(in).ReadMIMEHeader()
	h := http.Header(header)
	status := http.StatusOK
	if err == nil && h.Get("Content-Type") == "" && h.Get("Location") == "" && h.Get("Status") == "" {
		err = fmt.Errorf("no header Content-Type")
	}
	if err != nil {
		line, _, _ := strings.Cut(string(start), "\n")
		return &notHTTP{fmt.Sprintf("what it printed is no answer: it begins with %q; print the header Content-Type: text/plain and an empty line before the text", line)}
	}
	if text := h.Get("Status"); text != "" {
		number, _, _ := strings.Cut(text, " ")
		if status, err = strconv.Atoi(number); err != nil || status < 200 || status > 599 {
			return &notHTTP{fmt.Sprintf("its header Status is %q, which is none: write for example Status: 404 Not Found", text)}
		}
	} else if h.Get("Location") != "" {
		status = http.StatusFound
	}
	h.Del("Status")
	for name, values := range h {
		if name == "Connection" || name == "Transfer-Encoding" {
			continue
		}
		w.Header()[name] = values
	}
	w.WriteHeader(status)
	limited.N = 1 << 62
	if _, err := io.Copy(flushing{w}, in); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	return nil
}

// flushing passes on what it gets at once, since a program may take its time.
type flushing struct{ http.ResponseWriter }

func (f flushing) Write(b []byte) (int, error) {
	n, err := f.ResponseWriter.Write(b)
	_ = http.NewResponseController(f.ResponseWriter).Flush()
	return n, err
}
