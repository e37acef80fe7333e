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
	"sync/atomic"
	"time"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
)

// Server answers for a keeper.
type Server struct {
	keeper *keep.Keeper
	end    context.CancelFunc
	log    *slog.Logger
	mux    *http.ServeMux
	// described are the endpoints, for the description of the interface.
	described []described
	// replace ends the keeper so that another, which starts what is in next,
	// takes its place; next is nil as long as none is to.
	replace context.CancelFunc
	next    atomic.Pointer[[]string]
	// replaced says that another is going to take the keeper's place, so that
	// whoever waits for that one does not take this one for it.
	replaced atomic.Bool
	rooms    rooms
	glances  glances
}

// NewServer makes a server for a keeper. End is called when the keeper is
// asked to end, after everything is stopped.
func NewServer(k *keep.Keeper, end context.CancelFunc, log *slog.Logger) *Server {
	s := &Server{keeper: k, end: end, log: log, mux: http.NewServeMux()}
	handle(s, helloEndpoint, s.hello)
	handle(s, statusEndpoint, s.status)
	handleStream(s, eventsEndpoint, s.events)
	handle(s, operationsEndpoint, s.operations)
	handle(s, cancelEndpoint, s.cancel)
	handle(s, startEndpoint, s.start)
	handle(s, stopEndpoint, s.stop)
	handle(s, restartEndpoint, s.restart)
	handle(s, logsEndpoint, s.logs)
	handleStream(s, countEndpoint, s.countLogs)
	handleStream(s, tailEndpoint, s.tailLogs)
	handle(s, impactEndpoint, s.impact)
	handle(s, environmentEndpoint, s.environment)
	handle(s, kindsEndpoint, s.kinds)
	handle(s, checksEndpoint, s.checks)
	handle(s, wiringEndpoint, s.wiring)
	handle(s, startsEndpoint, s.starts)
	handle(s, startReportEndpoint, s.startReport)
	handle(s, usageEndpoint, s.usage)
	s.handleErrands()
	s.handleSnapshots()
	s.handleData()
	s.handleGate()
	s.handleProjects()
	s.handleTriggers()
	handle(s, remedyEndpoint, s.remedy)
	handle(s, changesEndpoint, s.changes)
	handle(s, applyEndpoint, s.apply)
	handle(s, rereadEndpoint, s.reread)
	handle(s, editEndpoint, s.edit)
	return s
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

// asked returns the context of a request, with who made it.
func asked(r *http.Request) context.Context {
	return keep.AskedBy(r.Context(), r.Header.Get(byHeader))
}

func (s *Server) hello(*http.Request, none) (Keeper, func(), error) {
	return Keeper{PID: os.Getpid(), Version: Version, Stale: s.replaced.Load() || s.keeper.Stale(), Busy: s.keeper.Busy(), Profile: s.keeper.Profile()}, nil, nil
}

func (s *Server) status(*http.Request, none) (Snapshot, func(), error) {
	return s.keeper.Snapshot(), nil, nil
}

func (s *Server) operations(*http.Request, none) ([]keep.Operation, func(), error) {
	return s.keeper.Operations(), nil, nil
}

func (s *Server) cancel(r *http.Request, _ none) (Done, func(), error) {
	id, err := strconv.Atoi(r.PathValue("id"))
	if err != nil {
		return Done{}, nil, &BadRequestError{fmt.Errorf("%q is not the number of an operation", r.PathValue("id"))}
	}
	return Done{}, nil, s.keeper.CancelOperation(asked(r), id)
}

func (s *Server) start(r *http.Request, n Names) (Done, func(), error) {
	s.keeper.UseEnvironment(n.Environment)
	began, err := s.keeper.Start(asked(r), n.Prepare, n.Services...)
	return Done{Services: n.Services, Began: began}, nil, err
}

func (s *Server) stop(r *http.Request, n Names) (Done, func(), error) {
	touched, err := s.keeper.Stop(asked(r), n.Services...)
	var after func()
	if len(n.Services) == 0 {
		after = s.end // the server lets this answer go out first
	}
	return Done{Services: touched}, after, err
}

func (s *Server) restart(r *http.Request, n Names) (Done, func(), error) {
	s.keeper.UseEnvironment(n.Environment)
	told, began, err := s.keeper.Restart(asked(r), n.WithNeeds, n.Prepare, n.Services...)
	return Done{Services: n.Services, Told: told, Began: began}, nil, err
}

func (s *Server) environment(r *http.Request, _ none) ([]project.Explained, func(), error) {
	vars, err := s.keeper.Environment(r.PathValue("name"), r.URL.Query().Get("files") == "true")
	return append([]project.Explained{}, vars...), nil, err
}

func (s *Server) kinds(*http.Request, none) ([]project.Available, func(), error) {
	return s.keeper.Kinds(), nil, nil
}

func (s *Server) checks(r *http.Request, _ none) ([]check.Finding, func(), error) {
	return append([]check.Finding{}, s.keeper.Checks(r.Context())...), nil, nil
}

func (s *Server) wiring(*http.Request, none) (insight.Wiring, func(), error) {
	w, err := s.keeper.Wiring()
	return w, nil, err
}

func (s *Server) starts(r *http.Request, _ none) ([]history.Summary, func(), error) {
	n := defaultStarts
	if text := r.URL.Query().Get("n"); text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil || n < 1 {
			return nil, nil, &BadRequestError{fmt.Errorf("n=%s: it must be a number from 1", text)}
		}
	}
	all, err := s.keeper.Starts(r.Context(), n)
	return all, nil, err
}

func (s *Server) startReport(r *http.Request, _ none) (starts.Report, func(), error) {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		return starts.Report{}, nil, &BadRequestError{fmt.Errorf("%q is not the number of a start", r.PathValue("id"))}
	}
	report, err := s.keeper.StartReport(r.Context(), id)
	return report, nil, err
}

func (s *Server) usage(r *http.Request, _ none) (usage.Report, func(), error) {
	number := func(name string, otherwise, most int) (int, error) {
		text := r.URL.Query().Get(name)
		if text == "" {
			return otherwise, nil
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > most {
			return 0, &BadRequestError{fmt.Errorf("%s=%s: it must be a number from 1 to %d", name, text, most)}
		}
		return n, nil
	}
	period, err := number("period", 300, int(usage.KeepCoarse.Seconds()))
	if err != nil {
		return usage.Report{}, nil, err
	}
	parts, err := number("parts", 60, 1000)
	if err != nil {
		return usage.Report{}, nil, err
	}
	report, err := s.keeper.Usage(r.Context(), time.Duration(period)*time.Second, parts)
	return report, nil, err
}

// defaultStarts is how many starts are listed where nothing else is asked for.
const defaultStarts = 200

func (s *Server) remedy(r *http.Request, want Remedy) (Remedied, func(), error) {
	says, err := s.carryOut(asked(r), want)
	return Remedied{says}, nil, err
}

// carryOut leaves a remedy to the keeper, but for what another project's
// keeper has to do.
func (s *Server) carryOut(ctx context.Context, want Remedy) (string, error) {
	if want.Action.Do != check.StopOther {
		says, err := s.keeper.Remedy(ctx, want.Finding, want.Action)
		if err == nil && want.Action.Declares() {
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

func (s *Server) changes(r *http.Request, _ none) ([]insight.Effect, func(), error) {
	effects, err := s.keeper.Effects(r.Context())
	return effects, nil, err
}

func (s *Server) reread(r *http.Request, n Names) (Rereading, func(), error) {
	may, effects, err := s.keeper.Reread(r.Context(), n.Services...)
	var after func()
	if may {
		s.replaced.Store(true)
		after = func() { s.replaceBy([]string{}) }
	}
	return Rereading{may, effects}, after, err
}

func (s *Server) apply(r *http.Request, n Names) ([]insight.Effect, func(), error) {
	s.keeper.UseEnvironment(n.Environment)
	effects, start, err := s.keeper.Apply(asked(r))
	if err == nil {
		s.replaced.Store(true)
	}
	// The server lets the answer go out first.
	return effects, func() { s.replaceBy(append([]string{}, start...)) }, err
}

// replaceBy ends the keeper so that another takes its place, which starts
// these services.
func (s *Server) replaceBy(start []string) {
	s.next.Store(&start)
	s.replace()
}

func (s *Server) impact(r *http.Request, _ none) (insight.Impact, func(), error) {
	i, err := s.keeper.Impact(r.PathValue("name"))
	return i, nil, err
}

func (s *Server) edit(r *http.Request, c project.Change) (Done, func(), error) {
	return Done{Services: []string{c.Service}}, nil, s.keeper.Edit(asked(r), c)
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
	watch := s.keeper.Watch
	if r.URL.Query().Get("moves") == "true" {
		watch = s.keeper.WatchMoves
	}
	watching := watch()
	defer watching.Close()
	progress := r.URL.Query().Get("progress") == "true"
	var pause time.Duration
	for {
		snapshot, err := watching.Next(r.Context())
		if err != nil {
			return
		}
		if pause == 0 { // the first has all services
			pause = together(len(snapshot.Services))
		}
		if progress {
			snapshot.Operations = nil
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
		case <-watching.Urgent():
			time.Sleep(pause - time.Since(sent))
		}
	}
}
