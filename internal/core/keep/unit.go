package keep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/probe"
	"neighbour/internal/core/proc"
)

// process is a service's main process, as far as a unit deals with it.
// *proc.Process is one.
type process interface {
	ID() proc.ID
	Done() <-chan struct{}
	Exit() proc.Exit
	// Signal asks the main process, End and KillAll all that the service
	// started.
	Signal(name string) error
	End(signal string) (int, error)
	KillAll(within time.Duration) error
}

// driver is what a unit needs of the world: everything that differs from
// service to service.
type driver interface {
	// prepare does all that comes before the process. It calls set to show
	// what it finds out and does.
	prepare(ctx context.Context, set func(func(*Status))) error
	launch() (process, error)
	adopt(SavedService) (process, error)
	// probe is the service's check; nil if only its process can be watched.
	probe() (probe.Probe, error)
	// starter is the check of a service that starts, and what there is to do
	// when it is answered for the first time; a nil function: nothing.
	starter() (check probe.Probe, provision func(context.Context, func(func(*Status))) error, err error)
	// ended is called when the service has come to rest.
	ended()
	// given are digests of the variables that the running process was started
	// with.
	given() map[string]string
	// cause says why the process ended, or could not become ready, where its
	// exit doesn't tell, as a *failure; nil if that is not known.
	cause(exit proc.Exit, ready bool) error
	// over says that the service uses more than it may, "" if it doesn't.
	over(percent float32, memory uint64) string
	// lastLines are the lines of output since the launch that tell most: the
	// first error and the latest, about n.
	lastLines(n int) []string
	policy() policy
}

// policy is how a service is checked, restarted and stopped.
type policy struct {
	every, within, timeout time.Duration
	fails                  int
	once                   bool // meant to end by itself
	when                   string
	most                   int
	window                 time.Duration
	ailing                 time.Duration // after which it is restarted; 0: it isn't
	signal                 string
	grace                  time.Duration
}

// failure is a reason with lines that belong to it.
type failure struct {
	reason  string
	remarks []string
}

func (f *failure) Error() string { return f.reason }

// settle is how long a program without any check must have run to count as
// ready.
const settle = 200 * time.Millisecond

// killWait is how long killed processes may take to be gone.
const killWait = 2 * time.Second

// unit is one service under supervision. While it is wanted, one goroutine
// leads it through its states.
type unit struct {
	svc    *declare.Service
	driver driver
	keeper *Keeper

	mu       sync.Mutex
	status   Status
	id       proc.ID // of its process, zero if there is none
	launched time.Time
	attempt  *attempt
}

// attempt is the time from a start to the state that ends it.
type attempt struct {
	cancel context.CancelFunc
	done   chan struct{}
}

// start begins an attempt, unless one is under way or the service has run to
// its end as it should. An adopted process is continued.
func (u *unit) start(ctx context.Context, adopted process, again bool) bool {
	u.mu.Lock()
	if u.attempt != nil || u.status.State == Finished && !again && adopted == nil {
		u.mu.Unlock()
		return false
	}
	ctx, cancel := context.WithCancel(ctx)
	a := &attempt{cancel: cancel, done: make(chan struct{})}
	u.attempt = a
	if adopted == nil {
		u.status.Began = time.Now()
		u.status.Restarts, u.status.Tries = 0, nil
		u.status.Checks = Checks{}
		u.status.State, u.status.Reason, u.status.Remarks, u.status.Since = Waiting, "", nil, time.Now()
	}
	u.mu.Unlock()
	u.keeper.published(u, adopted == nil)
	go func() {
		final := u.supervise(ctx, adopted)
		// The attempt is over before the final state shows, so that who sees
		// that state may start it again.
		u.mu.Lock()
		u.attempt = nil
		u.mu.Unlock()
		u.set(final)
		cancel()
		close(a.done)
	}()
	return true
}

// stop ends the attempt and waits until nothing of the service is left.
func (u *unit) stop() {
	u.mu.Lock()
	a := u.attempt
	u.mu.Unlock()
	if a == nil {
		u.set(func(s *Status) {
			if s.State != Stopped {
				*s = stopped(*s, "")
			}
		})
		return
	}
	a.cancel()
	<-a.done
}

// set changes the status and tells everybody.
func (u *unit) set(change func(*Status)) {
	u.mu.Lock()
	state, blocked := u.status.State, u.status.Blocked
	change(&u.status)
	if u.status.State != state {
		u.status.Since = time.Now()
	}
	// That it can't start matters to those who wait for it, as a state does.
	moved := u.status.State != state || u.status.Blocked != blocked
	now := u.status
	u.mu.Unlock()
	if now.State != state {
		u.keeper.noteState(state, now)
	}
	u.keeper.published(u, moved)
}

// enter moves to a state.
func (u *unit) enter(state State, reason string) {
	u.set(func(s *Status) {
		s.State, s.Reason, s.Remarks, s.Blocked, s.Until = state, reason, nil, false, time.Time{}
	})
}

func (u *unit) snapshot() Status {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.status
}

func stopped(s Status, reason string) Status {
	s.State, s.Reason, s.Remarks, s.Blocked, s.PID, s.Until = Stopped, reason, nil, false, 0, time.Time{}
	s.ReadyMS, s.Usage, s.Over = 0, Usage{}, ""
	return s
}

// ending is how one life of a service came to its end by itself.
type ending struct {
	err   error     // it could not be started, or did not become ready
	exit  proc.Exit // else how its process ended
	ready bool      // it had been ready
}

// supervise leads the service through its lives until it is stopped, fails,
// or finishes, and returns the change to its final state.
func (u *unit) supervise(ctx context.Context, adopted process) (final func(*Status)) {
	p := u.driver.policy()
	defer func() {
		if u.keeper.ctx.Err() == nil {
			u.driver.ended()
		}
	}()
	var restarts []time.Time
	unready := 0 // tries in a row that did not come to it
	for try := 0; ; try++ {
		end := u.live(ctx, adopted)
		if u.keeper.ctx.Err() != nil {
			// The keeper ends, and the service goes on: another keeper finds it
			// as it is.
			return func(*Status) {}
		}
		adopted = nil
		u.setProcess(proc.ID{})
		if ctx.Err() != nil {
			return func(s *Status) { *s = stopped(*s, "") }
		}
		if p.once && end.err == nil && end.exit.OK() {
			took := float64(time.Since(u.snapshot().Since).Microseconds()) / 1000
			final := finish(Finished, "exit 0", nil)
			return func(s *Status) {
				final(s)
				s.ReadyMS = took
			}
		}
		reason, remarks := u.explain(end)
		u.remember(reason, remarks)
		crashed := end.ready || try > 0
		switch {
		case end.err == nil && end.ready && end.exit.OK() && p.when != "always":
			return finish(Finished, `it ended by itself with exit 0; restart = { when = "always" } would start it again`, nil)
		case !crashed || p.once || p.when == "never":
			return finish(Failed, reason, remarks)
		}
		if unready++; end.ready {
			unready = 0
		}
		if unready >= p.most {
			return finish(Failed, fmt.Sprintf("%s; it did not become ready in %d tries, so no more", reason, unready), remarks)
		}
		restarts = within(restarts, p.window)
		if len(restarts) >= p.most {
			return finish(Failed, fmt.Sprintf("%s; it was restarted %s within %s and ended each time, so no more tries", reason, times(len(restarts)), round(p.window)), remarks)
		}
		restarts = append(restarts, time.Now())
		pause := backOff(len(restarts))
		u.set(func(s *Status) {
			s.State, s.PID, s.Remarks, s.Restarts = Waiting, 0, remarks, s.Restarts+1
			s.Reason = fmt.Sprintf("%s; restart %d of at most %d within %s", reason, len(restarts), p.most, round(p.window))
			s.Until = time.Now().Add(pause)
		})
		select {
		case <-ctx.Done():
			return func(s *Status) { *s = stopped(*s, "") }
		case <-time.After(pause):
		}
	}
}

func finish(state State, reason string, remarks []string) func(*Status) {
	return func(s *Status) {
		*s = stopped(*s, reason)
		s.State, s.Remarks = state, remarks
	}
}

// backOff is the pause before the nth restart: 0.25 s, doubled each time up
// to 30 s, with a fifth more or less so that services which fell together
// don't rise together.
func backOff(n int) time.Duration {
	pause := min(250*time.Millisecond<<min(n-1, 10), 30*time.Second)
	return time.Duration(float64(pause) * (0.8 + 0.4*rand.Float64()))
}

func within(list []time.Time, window time.Duration) []time.Time {
	for len(list) > 0 && time.Since(list[0]) > window {
		list = list[1:]
	}
	return list
}

// explain puts an end in words, with the last lines of output.
func (u *unit) explain(e ending) (reason string, remarks []string) {
	var f *failure
	if errors.As(e.err, &f) {
		return f.reason, f.remarks
	}
	if e.err != nil {
		return e.err.Error(), nil
	}
	if cause := u.driver.cause(e.exit, e.ready); errors.As(cause, &f) {
		return f.reason, append(f.remarks, u.driver.lastLines(6)...)
	}
	lasted := time.Since(u.snapshot().Since)
	switch {
	case e.ready:
		reason = fmt.Sprintf("%s after %s", e.exit, Span(lasted))
	case lasted < 100*time.Millisecond:
		reason = fmt.Sprintf("%s at once, before it was ready", e.exit)
	default:
		reason = fmt.Sprintf("%s, %s after its start and before it was ready", e.exit, Span(lasted))
	}
	return reason, u.driver.lastLines(6)
}

// remember keeps how a life of the service ended.
func (u *unit) remember(reason string, lines []string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	began := u.launched
	if began.IsZero() { // adopted
		began = u.status.Since
	}
	u.status.Tries = push(u.status.Tries, recentTries, Try{Began: began, Ended: time.Now(), Reason: reason, Lines: lines})
}

func (u *unit) setProcess(id proc.ID) {
	u.mu.Lock()
	u.id = id
	u.mu.Unlock()
	u.keeper.saveSoon() // a keeper that follows must know it
}

// live is one life: from waiting for what it needs to the end of its process.
func (u *unit) live(ctx context.Context, p process) (end ending) {
	if p == nil {
		if err := u.awaitNeeds(ctx); err != nil {
			return ending{err: err}
		}
		u.enter(Starting, "")
		if err := u.driver.prepare(ctx, u.set); err != nil {
			return ending{err: err}
		}
		u.enter(Starting, "")
		var err error
		u.mu.Lock()
		u.launched = time.Now()
		u.mu.Unlock()
		if p, err = u.driver.launch(); err != nil {
			return ending{err: err}
		}
		u.setProcess(p.ID())
		u.set(func(s *Status) { s.PID = p.ID().PID })
		u.keeper.note(u.svc.Name, "start", journal.Info, fmt.Sprintf("started, pid %d", p.ID().PID))
	} else {
		u.setProcess(p.ID())
	}
	defer func() {
		if u.keeper.ctx.Err() != nil {
			return
		}
		if ctx.Err() != nil {
			u.end(p)
			return
		}
		// Nothing of this life may get in the way of the next.
		if err := p.KillAll(killWait); err != nil && end.err == nil {
			end.err = err
		}
	}()
	if s := u.snapshot().State; s != Ready && s != Ailing {
		if over, end := u.becomeReady(ctx, p); over {
			return end
		}
	}
	if ailed := u.stayReady(ctx, p); ailed != nil {
		u.end(p)
		return ending{err: ailed, ready: true}
	}
	return ending{exit: p.Exit(), ready: true}
}

// awaitNeeds waits until all that the service needs is ready.
func (u *unit) awaitNeeds(ctx context.Context) error {
	for {
		changed := u.keeper.changed()
		missing, blocked := u.keeper.missing(u.svc)
		if missing == "" {
			return ctx.Err()
		}
		u.set(func(s *Status) {
			s.State, s.Reason, s.Remarks, s.Blocked, s.Until = Waiting, missing, nil, blocked, time.Time{}
		})
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// end stops a process: the signal that asks it, its grace, and then a kill
// of everything that it started.
func (u *unit) end(p process) {
	rules := u.driver.policy()
	began := time.Now()
	u.enter(Stopping, "sent SIG"+rules.signal)
	u.set(func(s *Status) { s.Until = began.Add(rules.grace) })
	_ = p.Signal(rules.signal)
	select {
	case <-p.Done():
		// What it left behind is asked, too, and gets a moment.
		if n, _ := p.End("TERM"); n > 0 {
			deadline := began.Add(min(rules.grace, time.Second))
			for pause := 2 * time.Millisecond; n > 0 && time.Now().Before(deadline); pause = min(2*pause, 50*time.Millisecond) {
				time.Sleep(pause)
				n, _ = p.End("TERM")
			}
		}
	case <-time.After(rules.grace):
		u.set(func(s *Status) {
			s.Reason = fmt.Sprintf("did not end within %s of SIG%s, so it is killed", round(rules.grace), rules.signal)
		})
	}
	if err := p.KillAll(killWait); err != nil {
		u.keeper.log.Error("processes are left", "service", u.svc.Name, "why", err)
	}
	// The kill makes the main process end at once; its parent learns of it.
	select {
	case <-p.Done():
	case <-time.After(killWait):
	}
}
