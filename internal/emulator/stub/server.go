package stub

import (
	"context"
	"fmt"
	"log"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/record/outbox"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/emulator"
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

	// large holds a value for each large body that is in memory.
	large chan struct{}
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
	s := &Server{Log: log, large: make(chan struct{}, maxLarge), Calls: &traffic.Log{}, config: c, hooks: map[string]*hook{}, state: map[string]string{}, calls: map[*answers]int{}, sent: map[int64]*traffic.Full{},
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

const (
	// bodyLimit is how large a body may be, in bytes.
	bodyLimit = 16 << 20
	// smallBody is the size of a body, in bytes, up to which it does not count as a large one.
	smallBody = 64 << 10
	// maxLarge is how many large bodies are in memory at a time. The others wait.
	maxLarge = 4
	// bodyTime is how long a large body may take to arrive.
	bodyTime = 30 * time.Second
)

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
			if r.URL.Path != ReadyPath && emulator.Refused(w, r) {
				return
			}
			own.ServeHTTP(w, r)
		case s.config.CORS.Answered(w, r, s.config.Names):
		default:
			asked.ServeHTTP(w, r)
		}
	})
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
