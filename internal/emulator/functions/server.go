package functions

import (
	"context"
	"log"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/emulator"
)

// Server runs functions. Its methods may be called at the same time.
type Server struct {
	Log *log.Logger
	// Misbehave says what it does wrong; nil: nothing.
	Misbehave *misbehave.Follower
	// Calls remembers what was called.
	Calls *traffic.Log

	config Config
	run    string
	next   atomic.Int64
	closed context.Context
	close  context.CancelFunc

	mu       sync.Mutex
	files    files
	round    int
	all      map[string]*function
	problems []string
	pools    map[string]*pool
	// failures are what is wrong with functions that can't be loaded.
	failures map[string]string
	stats    map[string]*stats
}

// stats sum up the calls of a function.
type stats struct {
	calls, failed int
	last          time.Time
	took          []float64 // of the latest, in milliseconds
}

// New makes a server that keeps what it makes in a folder.
func New(c Config, run string, log *log.Logger) (*Server, error) {
	if err := writeRunners(run); err != nil {
		return nil, err
	}
	s := &Server{Log: log, Calls: &traffic.Log{}, config: c, run: run, pools: map[string]*pool{}, failures: map[string]string{}, stats: map[string]*stats{}, files: files{dir: c.Dir}}
	s.closed, s.close = context.WithCancel(context.Background())
	_, problems := s.look()
	for _, p := range problems {
		log.Printf("warning: %s", p)
	}
	go s.tend()
	return s, nil
}

// Close ends all runners.
func (s *Server) Close() {
	s.close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.pools {
		p.prune(time.Time{}, true)
	}
}

// idle is how long a runner beside the one that stays warm waits for calls.
const idle = time.Minute

func (s *Server) tend() {
	tick := time.NewTicker(idle / 4)
	defer tick.Stop()
	for {
		select {
		case <-s.closed.Done():
			return
		case now := <-tick.C:
			s.mu.Lock()
			for _, p := range s.pools {
				p.prune(now.Add(-idle), false)
			}
			s.mu.Unlock()
		}
	}
}

// look returns the functions as the files are now.
func (s *Server) look() (map[string]*function, []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if round := s.files.look(); round != s.round || s.all == nil {
		all, problems, err := resolve(s.config)
		if err != nil {
			problems = append(problems, err.Error())
		}
		s.round, s.all, s.problems, s.failures = round, all, problems, map[string]string{}
	}
	return s.all, s.problems
}

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	return emulator.ServeHTTP(ctx, l, s.Handler(), s.Log)
}

// The addresses of Neighbour's own.
const (
	ReadyPath    = "/-/ready"
	OverviewPath = "/-/overview"
)

// bodyLimit is how large the body of a request may be, in bytes.
const bodyLimit = 64 << 20

// Handler returns the answers.
func (s *Server) Handler() http.Handler {
	own := http.NewServeMux()
	own.HandleFunc("GET "+ReadyPath, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	own.HandleFunc("GET "+OverviewPath, func(w http.ResponseWriter, _ *http.Request) { reply(w, http.StatusOK, s.Overview()) })
	own.Handle(traffic.Path, s.Calls.Handler())
	own.Handle(traffic.Path+"/", s.Calls.Handler())
	called := s.Calls.Record(traffic.Exchange{What: traffic.Call}, http.HandlerFunc(s.call))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !localname.Is(r.Host, s.config.Names...):
			http.Error(w, "This name leads nowhere here.", http.StatusMisdirectedRequest)
		case strings.HasPrefix(r.URL.Path, "/-/"):
			if r.URL.Path != ReadyPath && emulator.Refused(w, r) {
				return
			}
			own.ServeHTTP(w, r)
		case r.URL.Path == "/" && r.Method == http.MethodGet:
			reply(w, http.StatusOK, s.Overview())
		case s.config.CORS.Answered(w, r, s.config.Names):
		default:
			called.ServeHTTP(w, r)
		}
	})
}

func (s *Server) names(all map[string]*function) string {
	var names []string
	for n := range all {
		names = append(names, n)
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

// loaded notes whether a function could be loaded.
func (s *Server) loaded(name string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err == nil {
		delete(s.failures, name)
		return
	}
	s.failures[name] = err.Error()
}

func (s *Server) count(f *function, began time.Time, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := s.stats[f.name]
	if st == nil {
		st = &stats{}
		s.stats[f.name] = st
	}
	st.calls++
	if err != nil {
		st.failed++
	}
	st.last = began
	if len(st.took) == 100 {
		st.took = append(st.took[:0], st.took[50:]...)
	}
	st.took = append(st.took, float64(time.Since(began).Microseconds())/1000)
}

// Overview is what there is.
type Overview struct {
	Functions []Described `json:"functions"`
	Problems  []string    `json:"problems,omitempty"`
}

// Described is a function as it is shown.
type Described struct {
	Name string `json:"name"`
	// Runs says what it runs on: node, python, php, program or command.
	Runs     string  `json:"runs"`
	File     string  `json:"file,omitempty"`
	Calls    int     `json:"calls"`
	Failed   int     `json:"failed"`
	MedianMS float64 `json:"median_ms"`
	Last     string  `json:"last,omitempty"`
	// Problem says why it can't be called.
	Problem string `json:"problem,omitempty"`
	TimeMS  int64  `json:"time_ms"` // its limits
	AtOnce  int    `json:"at_once"`
	Memory  int64  `json:"memory,omitempty"`
	Warm    int    `json:"warm"` // the processes that wait for calls
}

// Overview says which functions there are, and how they do.
func (s *Server) Overview() Overview {
	all, problems := s.look()
	o := Overview{Functions: []Described{}, Problems: problems}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range all {
		d := Described{Name: f.name, Runs: f.runs(), File: f.file, Problem: s.failures[f.name], TimeMS: f.Time.Milliseconds(), AtOnce: f.AtOnce, Memory: f.Memory}
		if d.File == "" {
			d.File = strings.Join(f.argv, " ")
		}
		if st := s.stats[f.name]; st != nil {
			d.Calls, d.Failed, d.MedianMS, d.Last = st.calls, st.failed, traffic.Median(st.took), st.last.Format(time.RFC3339)
		}
		if p := s.pools[f.name]; p != nil {
			p.mu.Lock()
			d.Warm = len(p.idle)
			p.mu.Unlock()
		}
		o.Functions = append(o.Functions, d)
	}
	slices.SortFunc(o.Functions, func(a, b Described) int { return strings.Compare(a.Name, b.Name) })
	return o
}
