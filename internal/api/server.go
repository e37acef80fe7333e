package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/check"
	"neighbour/internal/core/declare"
	"neighbour/internal/core/keep"
	"neighbour/internal/core/project"
)

// Server answers for a keeper.
type Server struct {
	keeper *keep.Keeper
	end    context.CancelFunc
	log    *slog.Logger
	mux    *http.ServeMux
	// replace ends the keeper so that another, which starts what is in next,
	// takes its place; next is nil as long as none is to.
	replace context.CancelFunc
	next    []string
}

// NewServer makes a server for a keeper. End is called when the keeper is
// asked to end, after everything is stopped.
func NewServer(k *keep.Keeper, end context.CancelFunc, log *slog.Logger) *Server {
	s := &Server{keeper: k, end: end, log: log, mux: http.NewServeMux()}
	for route, handle := range s.routes() {
		s.mux.HandleFunc(route, handle)
	}
	return s
}

func (s *Server) routes() map[string]http.HandlerFunc {
	return map[string]http.HandlerFunc{
		"GET /v1/keeper":                  s.hello,
		"GET /v1/status":                  s.status,
		"GET /v1/events":                  s.events,
		"POST /v1/start":                  s.start,
		"POST /v1/stop":                   s.stop,
		"POST /v1/restart":                s.restart,
		"GET /v1/logs":                    s.logs,
		"GET /v1/logs/count":              s.countLogs,
		"GET /v1/services/{name}/impact":  s.impact,
		"GET /v1/operations":              s.operations,
		"POST /v1/operations/{id}/cancel": s.cancel,
		"GET /v1/kinds":                   s.kinds,
		"GET /v1/checks":                  s.checks,
		"GET /v1/wiring":                  s.wiring,
		"POST /v1/remedy":                 s.remedy,
		"GET /v1/changes":                 s.changes,
		"POST /v1/apply":                  s.apply,
		"POST /v1/reread":                 s.reread,
		"POST /v1/declaration":            s.edit,
	}
}

// Serve answers on the listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{
		Handler:     http.HandlerFunc(s.checkVersion),
		ErrorLog:    slog.NewLogLogger(s.log.Handler(), slog.LevelWarn),
		BaseContext: func(net.Listener) context.Context { return ctx },
	}
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if server.Shutdown(grace) != nil {
			server.Close()
		}
	}()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (s *Server) checkVersion(w http.ResponseWriter, r *http.Request) {
	s.keeper.Touch()
	w.Header().Set(versionHeader, Version)
	if v := r.Header.Get(versionHeader); v != "" && v != Version {
		reply(w, http.StatusConflict, Problem{(&VersionError{Keeper: Version, Client: v}).Error()})
		return
	}
	s.mux.ServeHTTP(w, r)
}

func reply(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v)
}

func fail(w http.ResponseWriter, err error) {
	code := http.StatusInternalServerError
	var unknown *declare.UnknownServiceError
	if errors.As(err, &unknown) {
		code = http.StatusNotFound
	}
	reply(w, code, Problem{err.Error()})
}

// read reads a request's body; what it is not is answered.
func read[T any](w http.ResponseWriter, r *http.Request) (body T, ok bool) {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&body); err != nil {
		reply(w, http.StatusBadRequest, Problem{"the request's body is not what it should be: " + err.Error()})
		return body, false
	}
	return body, true
}

func (s *Server) hello(w http.ResponseWriter, _ *http.Request) {
	reply(w, http.StatusOK, Keeper{PID: os.Getpid(), Version: Version, Stale: s.keeper.Stale(), Busy: s.keeper.Busy(), Profile: s.keeper.Profile()})
}

func (s *Server) status(w http.ResponseWriter, _ *http.Request) {
	reply(w, http.StatusOK, s.keeper.Snapshot())
}

// asked returns the context of a request, with who made it.
func asked(r *http.Request) context.Context {
	return keep.AskedBy(r.Context(), r.Header.Get(byHeader))
}

func (s *Server) operations(w http.ResponseWriter, _ *http.Request) {
	reply(w, http.StatusOK, s.keeper.Operations())
}

func (s *Server) cancel(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.Atoi(r.PathValue("id"))
	if err == nil {
		err = s.keeper.CancelOperation(asked(r), id)
	}
	switch {
	case errors.Is(err, keep.ErrNoOperation):
		reply(w, http.StatusNotFound, Problem{err.Error()})
	case err != nil:
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
	default:
		reply(w, http.StatusOK, Done{})
	}
}

func (s *Server) start(w http.ResponseWriter, r *http.Request) {
	n, ok := read[Names](w, r)
	if !ok {
		return
	}
	began, err := s.keeper.Start(asked(r), n.Prepare, n.Services...)
	if err != nil {
		fail(w, err)
		return
	}
	reply(w, http.StatusAccepted, Done{Services: n.Services, Began: began})
}

func (s *Server) stop(w http.ResponseWriter, r *http.Request) {
	n, ok := read[Names](w, r)
	if !ok {
		return
	}
	touched, err := s.keeper.Stop(asked(r), n.Services...)
	if err != nil {
		fail(w, err)
		return
	}
	reply(w, http.StatusOK, Done{Services: touched})
	if len(n.Services) == 0 {
		s.end() // the server lets this answer go out first
	}
}

func (s *Server) restart(w http.ResponseWriter, r *http.Request) {
	n, ok := read[Names](w, r)
	if !ok {
		return
	}
	told, began, err := s.keeper.Restart(asked(r), n.WithNeeds, n.Prepare, n.Services...)
	if err != nil {
		fail(w, err)
		return
	}
	reply(w, http.StatusAccepted, Done{Services: n.Services, Told: told, Began: began})
}

func (s *Server) kinds(w http.ResponseWriter, _ *http.Request) {
	reply(w, http.StatusOK, s.keeper.Kinds())
}

func (s *Server) checks(w http.ResponseWriter, r *http.Request) {
	reply(w, http.StatusOK, append([]check.Finding{}, s.keeper.Checks(r.Context())...))
}

func (s *Server) wiring(w http.ResponseWriter, _ *http.Request) {
	wiring, err := s.keeper.Wiring()
	if err != nil {
		fail(w, err)
		return
	}
	reply(w, http.StatusOK, wiring)
}

func (s *Server) remedy(w http.ResponseWriter, r *http.Request) {
	want, ok := read[Remedy](w, r)
	if !ok {
		return
	}
	says, err := s.carryOut(asked(r), want)
	if err != nil {
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
		return
	}
	reply(w, http.StatusOK, Remedied{says})
}

// carryOut leaves a remedy to the keeper, but for what another project's
// keeper has to do.
func (s *Server) carryOut(ctx context.Context, want Remedy) (string, error) {
	if want.Action.Do != check.StopOther {
		says, err := s.keeper.Remedy(ctx, want.Finding, want.Action)
		if err == nil && want.Action.Do == check.AdoptOutside {
			says += s.useDeclaration(ctx, want.Finding)
		}
		return says, err
	}
	if err := s.keeper.Confirm(ctx, want.Finding, want.Action); err != nil {
		return "", err
	}
	other, err := project.Open(want.Action.Dir)
	if err != nil {
		return "", err
	}
	client, err := Find(ctx, other)
	if err != nil {
		return "", err
	}
	defer client.Close()
	d, err := client.Stop(ctx, want.Action.Other)
	if err != nil {
		return "", err
	}
	says := fmt.Sprintf("stopped in %s: %s", other.Dir, strings.Join(d.Services, ", "))
	if _, service, ok := strings.Cut(want.Finding, "/"); ok {
		says += s.keeper.TryAgain(ctx, service)
	}
	return says, nil
}

// useDeclaration has the changed declaration read where that touches nothing
// that runs, and the service of a finding started; it returns what to say.
func (s *Server) useDeclaration(ctx context.Context, finding string) string {
	_, service, _ := strings.Cut(finding, "/")
	if !s.keeper.HasFailed(service) {
		return "; it counts when the keeper has read it"
	}
	may, _, err := s.keeper.Reread(ctx)
	if err != nil || !may {
		return "; neighbour apply uses it"
	}
	s.replaceBy([]string{service}) // the server lets the answer go out first
	return "; " + service + " starts"
}

func (s *Server) changes(w http.ResponseWriter, r *http.Request) {
	effects, _, err := s.keeper.Effects(r.Context())
	if err != nil {
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
		return
	}
	reply(w, http.StatusOK, effects)
}

func (s *Server) reread(w http.ResponseWriter, r *http.Request) {
	n, ok := read[Names](w, r)
	if !ok {
		return
	}
	may, effects, err := s.keeper.Reread(r.Context(), n.Services...)
	if err != nil {
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
		return
	}
	reply(w, http.StatusOK, Rereading{may, effects})
	if may {
		s.replaceBy([]string{})
	}
}

func (s *Server) apply(w http.ResponseWriter, r *http.Request) {
	effects, start, err := s.keeper.Apply(asked(r))
	if err != nil {
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
		return
	}
	reply(w, http.StatusOK, effects)
	s.replaceBy(append([]string{}, start...)) // the server lets this answer go out first
}

// replaceBy ends the keeper so that another takes its place, which starts
// these services.
func (s *Server) replaceBy(start []string) {
	s.next = start
	s.replace()
}

func (s *Server) impact(w http.ResponseWriter, r *http.Request) {
	a, err := s.keeper.Impact(r.PathValue("name"))
	if err != nil {
		fail(w, err)
		return
	}
	reply(w, http.StatusOK, a)
}

func (s *Server) edit(w http.ResponseWriter, r *http.Request) {
	c, ok := read[project.Change](w, r)
	if !ok {
		return
	}
	if err := s.keeper.Edit(asked(r), c); err != nil {
		reply(w, http.StatusUnprocessableEntity, Problem{err.Error()})
		return
	}
	reply(w, http.StatusOK, Done{Services: []string{c.Service}})
}

// frame is the least time between two events, so that a busy service doesn't
// make its watchers busy.
const frame = 16 * time.Millisecond

// together returns the least time between two events if a state changes: what
// changes at nearly the same time is told at once. The more services there
// are, the more that is, and the more an event costs its readers.
func together(services int) time.Duration {
	return min(3*time.Millisecond+time.Duration(services)*40*time.Microsecond, frame)
}

// sendEvent sends a value as a server-sent event (HTML Living Standard,
// section 9.2).
func sendEvent(w http.ResponseWriter, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if _, err = fmt.Fprintf(w, "data: %s\n\n", b); err != nil {
		return err
	}
	return http.NewResponseController(w).Flush()
}

// events sends a Snapshot of what changed for each change, the first with
// everything. With the query progress=true it has only what tells how far a
// start is.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	watch := s.keeper.Watch()
	defer watch.Close()
	progress := r.URL.Query().Get("progress") == "true"
	var pause time.Duration
	for {
		snapshot, err := watch.Next(r.Context())
		if err != nil {
			return
		}
		if pause == 0 { // the first has all services
			pause = together(len(snapshot.Services))
		}
		if progress {
			for i, st := range snapshot.Services {
				snapshot.Services[i] = st.Progress()
			}
		}
		sent := time.Now()
		if sendEvent(w, snapshot) != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-time.After(frame):
		case <-watch.Urgent():
			time.Sleep(pause - time.Since(sent))
		}
	}
}
