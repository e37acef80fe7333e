package stub

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"time"

	"neighbour/internal/core/localname"
	"neighbour/internal/core/outbox"
	"neighbour/internal/core/traffic"
	"neighbour/internal/emulator"
	"neighbour/internal/emulator/misbehave"
)

// Server is a stub. Its methods may be called at the same time.
type Server struct {
	Log *log.Logger
	// Misbehave says what it does wrong; nil: nothing.
	Misbehave *misbehave.Follower
	// Calls remembers what it was asked, and the webhooks.
	Calls *traffic.Log

	config   Config
	routes   paths[*answers]
	count    int
	document *document
	hooks    map[string]*hook
	box      *outbox.Box
	http     *http.Client

	mu    sync.Mutex
	state map[string]string
	calls map[*answers]int
	sent  map[int64]*traffic.Full // webhooks, by their numbers
}

// answers are the routes of a method and a path, in their order.
type answers struct {
	on  string
	all []*route
	// hooks are sent after it.
	hooks []*hook
}

// route is a declared answer with its templates.
type route struct {
	Route
	from, to int // the calls it is for, to is 0: all after from
	answer   *template.Template
	headers  map[string]*template.Template
	set      map[string]*template.Template
}

// ParseCalls reads of which calls a route is the answer: "3", "2-4", "5-"; "" is all.
func ParseCalls(text string) (from, to int, err error) {
	if text == "" {
		return 1, 0, nil
	}
	first, last, several := strings.Cut(text, "-")
	if from, err = strconv.Atoi(first); err == nil {
		switch {
		case !several:
			to = from
		case last != "":
			to, err = strconv.Atoi(last)
		}
	}
	if err != nil || from < 1 || to != 0 && to < from {
		return 0, 0, fmt.Errorf("%q does not say which calls: write \"3\", \"2-4\" or \"5-\"", text)
	}
	return from, to, nil
}

// recordTime is how long the real API may take.
const recordTime = time.Minute

// New makes a stub that keeps webhooks in a folder.
func New(c Config, dir string, log *log.Logger) (*Server, error) {
	s := &Server{Log: log, Calls: &traffic.Log{}, config: c, hooks: map[string]*hook{}, state: map[string]string{}, calls: map[*answers]int{}, sent: map[int64]*traffic.Full{},
		http: &http.Client{Timeout: recordTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second}}}
	for name, h := range c.Hooks {
		own := &hook{Hook: h, name: name}
		var err error
		if h.Body != "" {
			if own.body, err = ParseTemplate(h.Body); err != nil {
				return nil, fmt.Errorf("webhook %s: %w", name, err)
			}
		}
		if h.Sign != "" {
			if own.sign, err = ParseTemplate(h.Sign); err != nil {
				return nil, fmt.Errorf("webhook %s: %w", name, err)
			}
		}
		s.hooks[name] = own
	}
	by := map[string]*answers{}
	of := func(on string) (*answers, error) {
		if err := CheckOn(on); err != nil {
			return nil, err
		}
		method, path, _ := strings.Cut(strings.TrimSpace(on), " ")
		key := method + " " + braces.ReplaceAllString(path, "{}")
		if a := by[key]; a != nil {
			return a, nil
		}
		a := &answers{on: on}
		by[key] = a
		s.routes.add(method, path, a)
		return a, nil
	}
	for _, r := range c.Routes {
		a, err := of(r.On)
		if err != nil {
			return nil, err
		}
		own, err := newRoute(r)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.On, err)
		}
		if r.Hook != "" && s.hooks[r.Hook] == nil {
			return nil, fmt.Errorf("%s: there is no webhook %q", r.On, r.Hook)
		}
		a.all = append(a.all, own)
		s.count++
	}
	for _, name := range slices.Sorted(maps.Keys(s.hooks)) {
		if h := s.hooks[name]; h.After != "" {
			a, err := of(h.After)
			if err != nil {
				return nil, fmt.Errorf("webhook %s: %w", name, err)
			}
			a.hooks = append(a.hooks, h)
		}
	}
	if c.OpenAPI != "" {
		var err error
		if s.document, err = load(c.OpenAPI, c.Root); err != nil {
			return nil, err
		}
		for _, p := range s.document.problems {
			log.Printf("warning: %s", p)
		}
	}
	if len(s.hooks) > 0 {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		var err error
		if s.box, err = outbox.Open(filepath.Join(dir, "webhooks.db")); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func newRoute(r Route) (*route, error) {
	own := &route{Route: r, headers: map[string]*template.Template{}, set: map[string]*template.Template{}}
	var err error
	if own.from, own.to, err = ParseCalls(r.Calls); err != nil {
		return nil, err
	}
	if own.answer, err = ParseTemplate(r.Answer); err != nil {
		return nil, err
	}
	for to, from := range map[*map[string]*template.Template]map[string]string{&own.headers: r.Headers, &own.set: r.Set} {
		for name, text := range from {
			if (*to)[name], err = ParseTemplate(text); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
	}
	return own, nil
}

// says what it answers from.
func (s *Server) says() string {
	var parts []string
	if s.count > 0 {
		parts = append(parts, fmt.Sprintf("%d routes", s.count))
	}
	if s.document != nil {
		parts = append(parts, fmt.Sprintf("%d operations of %s", s.document.count, filepath.Base(s.document.file)))
	}
	if s.config.Record != "" {
		parts = append(parts, "recordings of "+s.config.Record)
	} else if s.config.Recordings != "" {
		parts = append(parts, "recordings")
	}
	return strings.Join(parts, ", ")
}

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	done := s.Start(ctx)
	defer done()
	defer cancel()
	return emulator.ServeHTTP(ctx, l, s.Handler(), s.Log)
}

// Start begins to send webhooks until the context ends, and returns what waits for that and
// closes what is kept.
func (s *Server) Start(ctx context.Context) (done func()) {
	var all sync.WaitGroup
	if s.box != nil {
		all.Go(func() { s.runHooks(ctx) })
	}
	return func() {
		all.Wait()
		s.http.CloseIdleConnections()
		if s.box != nil {
			_ = s.box.Close()
		}
	}
}

// The addresses of Neighbour's own, and of tests.
const (
	ReadyPath    = "/-/ready"
	OverviewPath = "/-/overview"
	RequestsPath = "/-/requests"
	ResetPath    = "/-/reset"
)

// bodyLimit is how large a body may be, in bytes.
const bodyLimit = 16 << 20

// Handler returns the answers.
func (s *Server) Handler() http.Handler {
	own := http.NewServeMux()
	own.HandleFunc("GET "+ReadyPath, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	own.HandleFunc("GET "+OverviewPath, func(w http.ResponseWriter, _ *http.Request) { reply(w, http.StatusOK, s.Overview()) })
	own.HandleFunc("GET "+RequestsPath, s.requests)
	own.HandleFunc("DELETE "+RequestsPath, s.reset)
	own.HandleFunc("POST "+ResetPath, s.reset)
	if s.box != nil {
		s.handleHooks(own)
	}
	remembered := s.Calls.Handler()
	own.Handle(traffic.Path, remembered)
	own.Handle("GET "+traffic.Path+"/{id}", remembered)
	asked := s.Calls.Record(traffic.Exchange{What: traffic.Stub}, http.HandlerFunc(s.answer))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !localname.Is(r.Host, s.config.Names...):
			http.Error(w, "This name leads nowhere here.", http.StatusMisdirectedRequest)
		case strings.HasPrefix(r.URL.Path, "/-/"):
			if localname.Foreign(r) {
				http.Error(w, "A page of another site may not do this.", http.StatusForbidden)
				return
			}
			own.ServeHTTP(w, r)
		default:
			asked.ServeHTTP(w, r)
		}
	})
}

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
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, bodyLimit))
	if err != nil {
		fail(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d MB, or broke off", bodyLimit>>20))
		return
	}
	data := dataOf(r, body)
	var hooks []*hook // of those that leave the answer to the document
	methods, done := s.routes.visit(r.Method, r.URL.EscapedPath(), func(found *answers, params map[string]string) bool {
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
	if done {
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

// Asked is a request that the stub was asked.
type Asked struct {
	ID      int64          `json:"id"`
	At      time.Time      `json:"at"`
	Method  string         `json:"method"`
	Path    string         `json:"path"`
	Query   map[string]any `json:"query,omitempty"`
	Headers map[string]any `json:"headers"`
	Body    any            `json:"body,omitempty"`
	Status  int            `json:"status"`
}

// mostAsked is how many requests are told at a time.
const mostAsked = 500

// requests tells which requests came that have the wanted values, for tests: method and path,
// and places such as body.amount. With count it is 409 unless there are so many; it waits for
// them as long as wait says.
func (s *Server) requests(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	count, wait := -1, time.Duration(0)
	if text := q.Get("count"); text != "" {
		var err error
		if count, err = strconv.Atoi(text); err != nil || count < 0 {
			fail(w, http.StatusBadRequest, fmt.Sprintf("count=%s: write a number", text))
			return
		}
	}
	if text := q.Get("wait"); text != "" {
		var err error
		if wait, err = time.ParseDuration(text); err != nil || wait < 0 || wait > time.Minute {
			fail(w, http.StatusBadRequest, fmt.Sprintf("wait=%s: write for example 2s, at most 1m", text))
			return
		}
	}
	for _, name := range []string{"count", "wait"} {
		q.Del(name)
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		changed := s.Calls.Changed()
		all := s.asked(q)
		if count < 0 || len(all) == count {
			reply(w, http.StatusOK, map[string]any{"count": len(all), "requests": all[:min(len(all), mostAsked)]})
			return
		}
		select {
		case <-changed:
		case <-timer.C:
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusConflict)
			_ = json.NewEncoder(w).Encode(map[string]any{"count": len(all), "requests": all[:min(len(all), mostAsked)], "error": fmt.Sprintf("there are %d such requests, and %d were expected", len(all), count)})
			return
		case <-r.Context().Done():
			return
		}
	}
}

// asked lists the requests that have values, the oldest first.
func (s *Server) asked(want url.Values) []Asked {
	out := []Asked{}
	for _, f := range s.Calls.Wholes("") {
		if f.What != traffic.Stub || f.Open {
			continue
		}
		u, err := url.ParseRequestURI(f.Path)
		if err != nil {
			continue
		}
		data := dataOf(&http.Request{Method: f.Method, URL: u, Header: f.RequestHeader}, f.Request.Data)
		data["path"] = u.Path
		data["status"] = strconv.Itoa(f.Status)
		meant := true
		for place, values := range want {
			if place == "path" && strings.HasSuffix(values[0], "*") {
				meant = meant && strings.HasPrefix(u.Path, strings.TrimSuffix(values[0], "*"))
				continue
			}
			meant = meant && has(data, place, values[0])
		}
		if !meant {
			continue
		}
		out = append(out, Asked{ID: f.ID, At: f.Began, Method: f.Method, Path: u.Path, Query: data["query"].(map[string]any), Headers: data["headers"].(map[string]any), Body: data["body"], Status: f.Status})
	}
	return out
}

// reset forgets what was asked, how often, and what routes remember.
func (s *Server) reset(w http.ResponseWriter, _ *http.Request) {
	s.Calls.Clear("")
	s.mu.Lock()
	clear(s.state)
	clear(s.calls)
	s.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// Overview is what a stub answers.
type Overview struct {
	Says   string            `json:"says"`
	Routes []string          `json:"routes"`
	Calls  map[string]int    `json:"calls"`
	State  map[string]string `json:"state"`
	Hooks  []string          `json:"webhooks"`
	// Operations are those of the document, Problems what is wrong with it.
	Operations int      `json:"operations"`
	Problems   []string `json:"problems,omitempty"`
}

// Overview says what it answers, and what it remembers.
func (s *Server) Overview() Overview {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := Overview{Says: s.says(), Routes: []string{}, Calls: map[string]int{}, State: maps.Clone(s.state), Hooks: slices.Sorted(maps.Keys(s.hooks))}
	for _, r := range s.config.Routes {
		o.Routes = append(o.Routes, r.On)
	}
	for a, n := range s.calls {
		o.Calls[a.on] = n
	}
	if s.document != nil {
		o.Operations, o.Problems = s.document.count, s.document.problems
	}
	return o
}
