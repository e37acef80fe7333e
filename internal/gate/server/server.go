// Package server is the process of the gate: one for all projects of a user.
package server

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/proxy"
)

// idleEnd is how long the gate stays without a project.
const idleEnd = 3 * time.Second

// The most that a client may take.
const (
	headerTime = 10 * time.Second
	idleTime   = 2 * time.Minute
	// lastWordsTime is how long answers that are under way may take when the gate ends.
	lastWordsTime = time.Second
	headerBytes   = 64 << 10
)

// server is the gate.
type server struct {
	connect   func(socket string) Keeper // to a keeper
	log       *slog.Logger
	ports     project.GatePorts
	gate      *proxy.Gate
	passed    *traffic.Log
	authority *authority.Authority
	began     time.Time
	end       context.CancelFunc

	mu       sync.Mutex
	projects []*member // in the order of their coming
	problems []string
	empty    time.Time // since when there is none
	changed  chan struct{}
	// owners are the folders of the projects that have the names; were those of before this
	// gate, whose projects may come back.
	owners, were map[string]string
	// lan is what is opened to others in this machine's network, by the project's folder,
	// lanProblems why it can't be.
	lan         map[string]*lan
	lanProblems map[string]string
}

// errRuns says that there is a gate already.
var errRuns = errors.New("another gate of this user runs")

// Run is the gate until the context ends, or no project has wanted it for a while.
func Run(ctx context.Context, connect func(socket string) Keeper, log *slog.Logger) error {
	if err := project.EnsureGateDir(); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(project.GateDir(), "gate.lock"), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return errRuns
	}
	s := &server{connect: connect, log: log, passed: &traffic.Log{}, began: time.Now(), empty: time.Now(), changed: make(chan struct{}), owners: map[string]string{}, were: map[string]string{}, lan: map[string]*lan{}, lanProblems: map[string]string{}}
	_ = atomicfile.ReadJSON(ownersFile(), &s.owners)
	if s.ports, err = project.ReadGatePorts(); err != nil {
		return err
	}
	if err := project.NoteGate(); err != nil {
		return err
	}
	plain, secure, err := s.listen()
	if err != nil {
		return err
	}
	if s.authority, err = authority.Open(project.AuthorityDir()); err != nil {
		s.problems = append(s.problems, "https does not work: "+err.Error())
		log.Error("authority", "why", err)
	}
	s.gate = proxy.New(s.passed, s.ports.HTTPS, s.ports.HTTP, log)
	s.lead()

	_ = os.Remove(project.GateSocket()) // nobody else has the lock
	l, err := net.Listen("unix", project.GateSocket())
	if err != nil {
		return fmt.Errorf("the gate's socket: %w", err)
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	s.end = end
	log.Info("gate", "pid", os.Getpid(), "https", s.ports.HTTPS, "http", s.ports.HTTP)
	quiet := slog.NewLogLogger(slog.NewTextHandler(io.Discard, nil), slog.LevelDebug)
	front := func(to http.Handler, tls *tls.Config) *http.Server {
		return &http.Server{Handler: to, TLSConfig: tls, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, MaxHeaderBytes: headerBytes, ErrorLog: quiet,
			BaseContext: func(net.Listener) context.Context { return ctx }}
	}
	talk := &http.Server{Handler: s.handler(), ErrorLog: quiet, BaseContext: func(net.Listener) context.Context { return ctx }}
	unsafe, onward := front(s.gate, nil), front(http.HandlerFunc(s.gate.SendOn), nil)
	safe := front(s.gate, &tls.Config{GetCertificate: s.certificate, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}})
	var all sync.WaitGroup
	failed := make(chan error, 8)
	serve := func(run func() error) {
		all.Go(func() {
			if err := run(); err != nil && !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
				failed <- err
				end()
			}
		})
	}
	serve(func() error { return talk.Serve(l) })
	for _, l := range plain {
		serve(func() error { return unsafe.Serve(l) })
	}
	for _, l := range secure {
		begun, plain := split(l)
		serve(func() error { return safe.ServeTLS(begun, "", "") })
		serve(func() error { return onward.Serve(plain) })
	}
	all.Go(func() { s.endWhenIdle(ctx, end) })
	all.Go(func() { s.keepLAN(ctx) })
	all.Go(func() { tendMemory(ctx) })
	<-ctx.Done()
	for _, server := range []*http.Server{unsafe, onward, safe} {
		server.Close()
	}
	lastWords, spoken := context.WithTimeout(context.Background(), lastWordsTime)
	_ = talk.Shutdown(lastWords) // whoever had the gate end hears that it does
	spoken()
	talk.Close()
	all.Wait()
	log.Info("gate ends")
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// listen takes the gate's ports, on both loopback addresses where there are two.
func (s *server) listen() (plain, secure []net.Listener, err error) {
	for try := 0; ; try++ {
		if plain, err = both(s.ports.HTTP); err == nil {
			if secure, err = both(s.ports.HTTPS); err == nil {
				return plain, secure, nil
			}
			for _, l := range plain {
				l.Close()
			}
		}
		if try == 3 {
			return nil, nil, fmt.Errorf("the gate can't have its ports: %w", err)
		}
		// One that has just ended may hold them for a moment, and then others do.
		if try < 2 {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		before := s.ports
		if s.ports, err = project.ChooseGatePorts(); err != nil {
			return nil, nil, err
		}
		s.log.Warn("other ports", "before", before, "now", s.ports)
	}
}

func both(port int) ([]net.Listener, error) {
	l, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	all := []net.Listener{l}
	if l, err := net.Listen("tcp6", net.JoinHostPort("::1", strconv.Itoa(port))); err == nil {
		all = append(all, l)
	}
	return all, nil
}

// certificate returns the certificate for a name that leads somewhere.
func (s *server) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if s.authority == nil {
		return nil, errors.New("there is no certificate authority")
	}
	return s.authority.ForHello(hello)
}

func (s *server) endWhenIdle(ctx context.Context, end context.CancelFunc) {
	tick := time.NewTicker(idleEnd / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.mu.Lock()
			idle := len(s.projects) == 0 && time.Since(s.empty) > idleEnd
			s.mu.Unlock()
			if idle {
				end()
			}
		}
	}
}

func reply(w http.ResponseWriter, v any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		w.WriteHeader(http.StatusUnprocessableEntity)
		v = control.Problem{Message: err.Error()}
	}
	_ = json.NewEncoder(w).Encode(v)
}

type none struct{}

// handler answers keepers.
func (s *server) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /state", func(w http.ResponseWriter, _ *http.Request) { reply(w, s.state(), nil) })
	mux.HandleFunc("POST /projects", s.register)
	mux.HandleFunc("DELETE /projects", func(w http.ResponseWriter, r *http.Request) {
		s.leave(r.URL.Query().Get("dir"))
		reply(w, none{}, nil)
	})
	mux.HandleFunc("POST /vacate", func(w http.ResponseWriter, r *http.Request) {
		reply(w, none{}, s.vacate(r.URL.Query().Get("port")))
	})
	mux.HandleFunc("GET /traffic", func(w http.ResponseWriter, r *http.Request) {
		t, err := s.list(r.URL.Query())
		reply(w, t, err)
	})
	mux.HandleFunc("DELETE /traffic", func(w http.ResponseWriter, r *http.Request) {
		s.passed.Clear(r.URL.Query().Get("dir"))
		reply(w, none{}, nil)
	})
	mux.HandleFunc("GET /traffic/{id}", func(w http.ResponseWriter, r *http.Request) {
		shown, err := s.shown(r)
		reply(w, shown, err)
	})
	mux.HandleFunc("POST /traffic/{id}/replay", func(w http.ResponseWriter, r *http.Request) {
		shown, err := s.replay(r)
		reply(w, shown, err)
	})
	mux.HandleFunc("GET /har", func(w http.ResponseWriter, r *http.Request) {
		_ = traffic.WriteHAR(w, s.passed.Wholes(r.URL.Query().Get("dir")))
	})
	mux.HandleFunc("POST /har", func(w http.ResponseWriter, r *http.Request) {
		all, err := traffic.ReadHAR(r.Body)
		if err == nil {
			s.passed.Import(r.URL.Query().Get("dir"), all)
		}
		reply(w, map[string]int{"added": len(all)}, err)
	})
	return mux
}

// vacate has the gate leave a port that a project wants: it chooses others and ends, and the
// keepers begin it again.
func (s *server) vacate(text string) error {
	n, err := strconv.Atoi(text)
	if err != nil {
		return fmt.Errorf("%q is no port", text)
	}
	if !s.ports.Has(n) {
		return nil
	}
	now, err := project.ChooseGatePorts(n, s.ports.HTTPS, s.ports.HTTP)
	if err != nil {
		return err
	}
	s.log.Info("a project declares a port of the gate", "before", s.ports, "now", now)
	s.end()
	return nil
}

func (s *server) list(q url.Values) (control.Traffic, error) {
	f, err := traffic.ParseFilter(q.Get("filter"))
	if err != nil {
		return control.Traffic{}, err
	}
	before, _ := strconv.ParseInt(q.Get("before"), 10, 64)
	n, _ := strconv.Atoi(q.Get("n"))
	if n < 1 || n > 5000 {
		n = 500
	}
	return control.Traffic{Exchanges: s.passed.List(q.Get("dir"), f, before, n), Says: s.passed.Says(q.Get("dir"), time.Now())}, nil
}

// errGone says that an exchange isn't remembered.
var errGone = errors.New("this exchange isn't remembered any more")

func (s *server) full(r *http.Request) (*traffic.Full, error) {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is not the number of an exchange", r.PathValue("id"))
	}
	f := s.passed.Get(r.URL.Query().Get("dir"), id)
	if f == nil {
		return nil, errGone
	}
	return f, nil
}

func (s *server) shown(r *http.Request) (traffic.Shown, error) {
	f, err := s.full(r)
	if err != nil {
		return traffic.Shown{}, err
	}
	shown := f.Show()
	if f.Trace != "" {
		same, _ := traffic.ParseFilter(f.Trace)
		if shown.Related = s.passed.List(f.Project, same, 0, 50); len(shown.Related) < 2 {
			shown.Related = nil
		}
		slices.Reverse(shown.Related)
	}
	return shown, nil
}

// replayLimit is how long a repeated request may take.
const replayLimit = time.Minute

// replay makes a request again, on the same way as the first.
func (s *server) replay(r *http.Request) (traffic.Shown, error) {
	f, err := s.full(r)
	if err != nil {
		return traffic.Shown{}, err
	}
	var change traffic.Repeat
	if err := json.NewDecoder(r.Body).Decode(&change); err != nil {
		return traffic.Shown{}, err
	}
	if f.Upgrade != "" {
		return traffic.Shown{}, errors.New("a connection that became a " + f.Upgrade + " can't be repeated")
	}
	req, err := f.NewRequest(change)
	if err != nil {
		return traffic.Shown{}, err
	}
	ctx, cancel := context.WithTimeout(r.Context(), replayLimit)
	defer cancel()
	req = req.WithContext(ctx)
	req.RemoteAddr = "127.0.0.1:0"
	req.RequestURI = ""
	if f.Scheme == "https" {
		req.TLS = &tls.ConnectionState{}
	}
	made := proxy.Repeating(ctx, "the repeat of "+strconv.FormatInt(f.ID, 10))
	func() {
		defer func() { _ = recover() }() // an answer that breaks off; it is in the traffic
		s.gate.ServeHTTP(&discarding{header: http.Header{}}, req.WithContext(made))
	}()
	id := proxy.Repeated(made)
	if id == 0 {
		return traffic.Shown{}, errors.New("the name of the request leads nowhere now")
	}
	again := s.passed.Get(f.Project, id)
	if again == nil {
		return traffic.Shown{}, errGone
	}
	return again.Show(), nil
}

// discarding takes an answer that is looked at in the traffic.
type discarding struct{ header http.Header }

func (d *discarding) Header() http.Header         { return d.header }
func (d *discarding) Write(b []byte) (int, error) { return len(b), nil }
func (d *discarding) WriteHeader(int)             {}
