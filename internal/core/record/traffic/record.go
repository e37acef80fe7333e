package traffic

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Path is where a server tells what it remembers, as Handler answers.
const Path = "/-/traffic"

// The headers by which a request that repeats another says so, and by which the answer of one
// tells its number.
const (
	RepeatHeader   = "Neighbour-Repeats"
	ExchangeHeader = "Neighbour-Exchange"
)

// Trace returns what a request has in common with those that led to it: its trace (W3C Trace
// Context, section 3.2), or its X-Request-Id; "" if it has neither.
func Trace(h http.Header) string {
	// Version, trace, parent and flags.
	if parts := strings.Split(h.Get("Traceparent"), "-"); len(parts) >= 4 && len(parts[1]) == 32 {
		return parts[1]
	}
	id := h.Get("X-Request-Id")
	return id[:min(len(id), 128)]
}

// NewTrace returns an X-Request-Id that no other request has.
func NewTrace() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Counted is a body that is counted, and of which the beginning is kept. It is read by one
// goroutine, and may be looked at by another.
type Counted struct {
	io.ReadCloser
	mu   sync.Mutex
	n    int64
	kept []byte
}

func (c *Counted) Read(b []byte) (int, error) {
	n, err := c.ReadCloser.Read(b)
	c.note(b[:n])
	return n, err
}

func (c *Counted) note(b []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.n += int64(len(b))
	if room := BodyLimit - len(c.kept); room > 0 && len(b) > 0 {
		c.kept = append(c.kept, b[:min(len(b), room)]...)
	}
}

// Taken returns how much was read so far, and what of it is kept.
func (c *Counted) Taken() (int64, Body) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.n, Body{Data: c.kept, Cut: c.n > int64(len(c.kept))}
}

// recorder is a writer that notes what is written.
type recorder struct {
	http.ResponseWriter
	l      *Log
	f      *Full
	status int
	body   Counted
}

func (w *recorder) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *recorder) WriteHeader(status int) {
	if w.status == 0 && status >= 200 {
		w.status = status
		answered := since(w.f.Began)
		w.l.Amend(w.f, func(f *Full) { f.Status, f.Header, f.AnsweredMS = status, w.Header().Clone(), answered })
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *recorder) Write(b []byte) (int, error) {
	if w.status == 0 {
		w.WriteHeader(http.StatusOK)
	}
	n, err := w.ResponseWriter.Write(b)
	w.body.note(b[:n])
	return n, err
}

func since(t time.Time) float64 { return float64(time.Since(t).Microseconds()) / 1000 }

// Record returns a handler that remembers the requests to another, each as an exchange like
// the given one. They belong to no project: who asks for them knows it.
func (l *Log) Record(like Exchange, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f := &Full{Exchange: like, RequestHeader: r.Header.Clone()}
		f.Began, f.Method, f.Host, f.Path, f.Proto, f.Scheme, f.Of = time.Now(), r.Method, r.Host, r.URL.RequestURI(), r.Proto, "http", r.Header.Get(RepeatHeader)
		if r.Header.Get("X-Forwarded-Proto") == "https" {
			f.Scheme = "https"
		}
		f.Trace = Trace(r.Header)
		l.Begin(f)
		body := &Counted{ReadCloser: r.Body}
		r.Body = body
		out := &recorder{ResponseWriter: w, l: l, f: f}
		if f.Of != "" {
			w.Header().Set(ExchangeHeader, strconv.FormatInt(f.ID, 10))
		}
		problem := "the answer broke off"
		defer func() {
			took := since(f.Began)
			l.End(f, func(f *Full) {
				f.TookMS, f.SentMS = took, min(f.SentMS, f.AnsweredMS)
				f.Sent, f.Request = body.Taken()
				f.Received, f.Response = out.body.Taken()
				if out.status == 0 {
					f.Problem = problem
				}
			})
		}()
		next.ServeHTTP(out, r)
		if problem = ""; out.status == 0 {
			if r.Context().Err() != nil {
				problem = "who asked did not wait for the answer"
				return
			}
			out.WriteHeader(http.StatusOK)
		}
	})
}

// Handler answers who asks for what is remembered, below Path: a list that a filter lets
// through, newest first; one exchange whole; and DELETE has all forgotten.
func (l *Log) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+Path, func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		f, err := ParseFilter(q.Get("filter"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		before, _ := strconv.ParseInt(q.Get("before"), 10, 64)
		n, _ := strconv.Atoi(q.Get("n"))
		if n < 1 {
			n = 500
		}
		reply(w, l.List("", f, before, n))
	})
	mux.HandleFunc("GET "+Path+"/{id}", func(w http.ResponseWriter, r *http.Request) {
		id, _ := strconv.ParseInt(r.PathValue("id"), 10, 64)
		if f := l.Get("", id); f != nil {
			reply(w, f)
			return
		}
		http.NotFound(w, r)
	})
	mux.HandleFunc("DELETE "+Path, func(w http.ResponseWriter, _ *http.Request) {
		l.Clear("")
		w.WriteHeader(http.StatusNoContent)
	})
	return mux
}

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}
