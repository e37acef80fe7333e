package stub

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
)

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// Problem is an answer that says what is wrong (RFC 9457).
type Problem struct {
	Title  string   `json:"title"`
	Status int      `json:"status"`
	Detail string   `json:"detail,omitempty"`
	Errors []string `json:"errors,omitempty"`
}

func fail(w http.ResponseWriter, status int, detail string, errs ...string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(Problem{http.StatusText(status), status, detail, errs})
}

// dataOf takes a request apart for templates.
func dataOf(r *http.Request, body []byte) map[string]any {
	query, headers := map[string]any{}, map[string]any{}
	for name, v := range r.URL.Query() {
		query[name] = v[0]
	}
	for name, v := range r.Header {
		headers[strings.ToLower(name)] = strings.Join(v, ", ")
	}
	var parsed any = string(body)
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	switch {
	case len(body) == 0:
		parsed = map[string]any{}
	case kind == "application/x-www-form-urlencoded":
		form := map[string]any{}
		if q, err := url.ParseQuery(string(body)); err == nil {
			for name, v := range q {
				form[name] = v[0]
			}
		}
		parsed = form
	default:
		var v any
		if json.Unmarshal(body, &v) == nil {
			parsed = v
		}
	}
	return map[string]any{"method": r.Method, "url": r.URL.RequestURI(), "query": query, "headers": headers, "body": parsed}
}

// readBody reads the body of a request. Done is to be called once it is not used any more.
func (s *Server) readBody(w http.ResponseWriter, r *http.Request) (body []byte, done func(), err error) {
	done = func() {}
	in := http.MaxBytesReader(w, r.Body, bodyLimit)
	if body, err = io.ReadAll(io.LimitReader(in, smallBody)); err != nil || len(body) < smallBody {
		return body, done, err
	}
	select {
	case s.large <- struct{}{}:
	case <-r.Context().Done():
		return nil, done, r.Context().Err()
	}
	limit := http.NewResponseController(w)
	_ = limit.SetReadDeadline(time.Now().Add(bodyTime))
	defer func() { _ = limit.SetReadDeadline(time.Time{}) }()
	rest := bytes.NewBuffer(body)
	_, err = rest.ReadFrom(in)
	return rest.Bytes(), func() { <-s.large }, err
}

func (s *Server) answer(w http.ResponseWriter, r *http.Request) {
	wait, fate := s.Misbehave.Rules().Draw()
	misbehave.Wait(r.Context(), wait)
	switch fate {
	case misbehave.Failed:
		fail(w, http.StatusInternalServerError, "it misbehaves, as it was told to")
		return
	case misbehave.Throttled:
		w.Header().Set("Retry-After", "1")
		fail(w, http.StatusTooManyRequests, "it misbehaves, as it was told to")
		return
	case misbehave.Cut:
		w = misbehave.CutOff(w)
	}
	body, done, err := s.readBody(w, r)
	defer done()
	if err != nil {
		fail(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d MB, or broke off", bodyLimit>>20))
		return
	}
	data := dataOf(r, body)
	var hooks []*hook // of those that leave the answer to the document
	methods, answered := s.routes.visit(r.Method, r.URL.EscapedPath(), func(found *answers, params map[string]string) bool {
		path := map[string]any{}
		for name, v := range params {
			path[name] = v
		}
		data["path"] = path
		if s.declared(w, r, found, data) {
			return true
		}
		hooks = append(hooks, found.hooks...)
		return false
	})
	if answered {
		return
	}
	if s.document != nil {
		op, params, more := s.document.find(r)
		if op != nil {
			s.fromDocument(w, r, op, params, body, data, hooks)
			return
		}
		methods = append(methods, more...)
	}
	if s.config.Recordings != "" {
		err := s.recorded(w, r, body)
		switch {
		case err == nil:
			return
		case !errors.Is(err, errUnrecorded), s.config.Record != "":
			s.Log.Printf("error: %s %s: %v", r.Method, r.URL.Path, err)
			fail(w, http.StatusBadGateway, err.Error())
			return
		}
	}
	if len(methods) > 0 {
		slices.Sort(methods)
		w.Header().Set("Allow", strings.Join(slices.Compact(methods), ", "))
		fail(w, http.StatusMethodNotAllowed, fmt.Sprintf("the stub answers %s %s, and not %s", strings.Join(slices.Compact(methods), ", "), r.URL.Path, r.Method))
		return
	}
	s.Log.Printf("warning: nothing answers %s %s", r.Method, r.URL.Path)
	fail(w, http.StatusNotFound, fmt.Sprintf("the stub has no answer for %s %s; it has %s", r.Method, r.URL.Path, s.says()))
}

// declared answers by a declared route, if one is meant.
func (s *Server) declared(w http.ResponseWriter, r *http.Request, found *answers, data map[string]any) bool {
	if len(found.all) == 0 {
		return false
	}
	s.mu.Lock()
	s.calls[found]++
	n := s.calls[found]
	state := map[string]any{}
	for k, v := range s.state {
		state[k] = v
	}
	s.mu.Unlock()
	data["call"], data["state"] = n, state
	for _, one := range found.all {
		if n < one.from || one.to > 0 && n > one.to {
			continue
		}
		meant := true
		for place, want := range one.When {
			meant = meant && has(data, place, want)
		}
		if !meant {
			continue
		}
		misbehave.Wait(r.Context(), one.Delay)
		s.write(w, r, found, one, data)
		return true
	}
	return false
}

// write writes a route's answer, and does what comes with it.
func (s *Server) write(w http.ResponseWriter, r *http.Request, found *answers, one *route, data map[string]any) {
	refuse := func(err error) {
		s.Log.Printf("error: %s: %v", found.on, err)
		fail(w, http.StatusInternalServerError, found.on+": "+err.Error())
	}
	text, err := render(one.answer, data)
	if err != nil {
		refuse(err)
		return
	}
	if one.File != "" {
		b, err := os.ReadFile(filepath.Join(s.config.Root, one.File))
		if err != nil {
			refuse(err)
			return
		}
		text = string(b)
	}
	set := map[string]string{}
	for name, t := range one.set {
		if set[name], err = render(t, data); err != nil {
			refuse(err)
			return
		}
	}
	switch {
	case text == "":
	case json.Valid([]byte(text)):
		w.Header().Set("Content-Type", "application/json")
	case strings.HasPrefix(strings.TrimSpace(text), "<"):
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
	default:
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	}
	if kind := mime.TypeByExtension(filepath.Ext(one.File)); kind != "" {
		w.Header().Set("Content-Type", kind)
	}
	for name, t := range one.headers {
		value, err := render(t, data)
		if err != nil {
			refuse(err)
			return
		}
		w.Header().Set(name, value)
	}
	s.mu.Lock()
	maps.Copy(s.state, set)
	s.mu.Unlock()
	status := one.Status
	if status == 0 {
		if status = http.StatusOK; text == "" {
			status = http.StatusNoContent
		}
	}
	hooks := slices.Clone(found.hooks)
	if one.Hook != "" {
		hooks = append(hooks, s.hooks[one.Hook])
	}
	s.fireAll(r.Context(), hooks, status, []byte(text), data)
	w.WriteHeader(status)
	_, _ = io.WriteString(w, text)
}

// fireAll has webhooks be sent after an answer.
func (s *Server) fireAll(ctx context.Context, hooks []*hook, status int, answer []byte, data map[string]any) {
	if status >= 400 || len(hooks) == 0 {
		return
	}
	var v any
	if json.Unmarshal(answer, &v) != nil {
		v = string(answer)
	}
	with := maps.Clone(data)
	with["answer"], with["status"] = v, status
	if with["state"] == nil {
		with["state"] = map[string]any{}
	}
	if with["path"] == nil {
		with["path"] = map[string]any{}
	}
	for _, h := range hooks {
		if _, err := s.fire(context.WithoutCancel(ctx), h, with, ""); err != nil {
			s.Log.Printf("error: %v", err)
		}
	}
}

// fromDocument answers from the OpenAPI document.
func (s *Server) fromDocument(w http.ResponseWriter, r *http.Request, op *operation, params map[string]string, body []byte, data map[string]any, hooks []*hook) {
	violations := s.document.violations(r, op, params, body)
	if len(violations) > 0 {
		s.Log.Printf("warning: %s %s is not what the document allows: %s", r.Method, r.URL.Path, strings.Join(violations, "; "))
		if !s.config.Lax {
			fail(w, http.StatusBadRequest, "the request is not what the document allows", violations...)
			return
		}
		w.Header().Set("Neighbour-Violations", strconv.Itoa(len(violations)))
	}
	status, header, answer, problem := s.document.answer(r, op, params, s.config.Seed)
	if problem != "" {
		s.Log.Printf("error: %s", problem)
		fail(w, http.StatusNotImplemented, problem)
		return
	}
	path := map[string]any{}
	for name, v := range params {
		path[name] = v
	}
	data["path"] = path
	s.fireAll(r.Context(), hooks, status, answer, data)
	maps.Copy(w.Header(), header)
	w.WriteHeader(status)
	_, _ = w.Write(answer)
}
