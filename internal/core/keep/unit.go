package keep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
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
	prepare(ctx context.Context, r request, set func(func(*Status))) error
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
	// foreign reports, as a *failure, that the service's port is answered by a
	// process that isn't the service's, so that no answer tells anything about
	// the service; nil if it isn't.
	foreign(p process) error
	// listens says on which addresses the service's processes listen where
	// that is not what its check asks, "" otherwise.
	listens(p process) string
	// errorLine is the line of output since the launch that says why the
	// service failed, "" if none does.
	errorLine() string
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

// request is what a start was asked with.
type request struct {
	at time.Time // when it was asked
	// again says that a service which has run to its end is run again, prepare,
	// that preparations run whether they are due or not.
	again, prepare bool
	// crashed says that it had run until it was lost together with the keeper,
	// so that its policy for crashes holds.
	crashed bool
}

// failure is a reason with lines that belong to it.
type failure struct {
	reason  string
	remarks []string
	// taken says that somebody else has the service's port.
	taken bool
}

func (f *failure) Error() string { return f.reason }

// settle is how long a program without any check must have run to count as
// ready.
const settle = 200 * time.Millisecond

// trial is how long a program without any check must have run for its start to
// count as done: what needs it goes on earlier, but one that ends within this
// time never ran as it should.
const trial = time.Second

// mostTaken is how often another port is tried for a service that declares
// none, because somebody was quicker to take the one that was chosen.
const mostTaken = 5

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
	asked    request // of the attempt
	// moved holds a value when something that it needs may have come into
	// another state.
	moved chan struct{}
}

// wake has the unit look again at what it waits for.
func (u *unit) wake() {
	select {
	case u.moved <- struct{}{}:
	default:
	}
}

// settled reports whether a start of the service has come to its end.
func (u *unit) settled() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.status.State.Settled() || u.status.Blocked
}

// attempt is the time from a start to the state that ends it.
type attempt struct {
	cancel context.CancelFunc
	done   chan struct{}
}

// start begins an attempt, unless one is under way or the service has run to
// its end as it should. An adopted process is continued.
func (u *unit) start(ctx context.Context, adopted process, r request) bool {
	u.mu.Lock()
	if u.attempt != nil || u.status.State == Finished && !r.again && adopted == nil {
		u.mu.Unlock()
		return false
	}
	ctx, cancel := context.WithCancel(ctx)
	a := &attempt{cancel: cancel, done: make(chan struct{})}
	u.attempt, u.asked = a, r
	if adopted == nil {
		u.status.Began = time.Now()
		u.status.Restarts, u.status.Tries = 0, nil
		u.status.Checks = Checks{}
		u.status.State, u.status.Reason, u.status.Remarks, u.status.Since = Waiting, "", nil, time.Now()
		u.status.Early = false
	}
	u.mu.Unlock()
	u.keeper.published(u, adopted == nil)
	go func() {
		u.end(u.supervise(ctx, adopted))
		cancel()
		close(a.done)
	}()
	return true
}

// end ends the attempt with its final state: both at once, so that who sees
// the state may start the service again, and no start comes between.
func (u *unit) end(final func(*Status)) {
	u.set(func(s *Status) {
		u.attempt = nil
		final(s)
	})
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

// set changes the status and tells everybody. Change is called with the unit
// locked.
func (u *unit) set(change func(*Status)) {
	u.mu.Lock()
	state, blocked, onTrial := u.status.State, u.status.Blocked, u.status.Trial
	change(&u.status)
	if u.status.State != state {
		u.status.Since = time.Now()
	}
	// That it can't start matters to those who wait for it, as a state does.
	moved := u.status.State != state || u.status.Blocked != blocked || u.status.Trial != onTrial
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
	s.ReadyMS, s.Usage, s.Over, s.Exposed, s.Trial, s.Early = 0, Usage{}, "", "", false, false
	return s
}

// ending is how one life of a service came to its end by itself.
type ending struct {
	err   error     // it could not be started, or did not become ready
	exit  proc.Exit // else how its process ended
	ready bool      // it had been ready
	early bool      // it ended before its process was started
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
	taken := 0   // tries whose port somebody else was quicker to take
	for try := 0; ; try++ {
		if try > taken { // preparations that run before each start are for this one
			u.mu.Lock()
			u.asked.at = time.Now()
			u.mu.Unlock()
		}
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
		why := u.explain(end)
		reason, remarks := why.reason, why.remarks
		u.remember(reason, remarks)
		if why.taken && u.svc.Port == 0 && taken < mostTaken {
			taken++
			u.keeper.note(u.svc.Name, "port", journal.Warn, reason+"; another port is tried")
			continue
		}
		crashed := end.ready || try > taken || u.request().crashed
		switch {
		case end.err == nil && end.ready && end.exit.OK() && p.when != "always":
			return finish(Finished, `it ended by itself with exit 0; restart = { when = "always" } would start it again`, nil)
		case !crashed || p.once || p.when == "never":
			final := finish(Failed, reason, remarks)
			return func(s *Status) {
				final(s)
				s.Early = end.early || why.taken
			}
		}
		if unready++; end.ready {
			unready = 0
		}
		if unready >= p.most {
			return finish(Failed, fmt.Sprintf("%s; it did not become ready in %d tries; giving up", reason, unready), remarks)
		}
		restarts = within(restarts, p.window)
		if len(restarts) >= p.most {
			return finish(Failed, fmt.Sprintf("%s; it was restarted %s within %s and ended each time; giving up", reason, times(len(restarts)), round(p.window)), remarks)
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

// backOff returns the pause before the nth restart: 0.25 s, doubled each time up
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
func (u *unit) explain(e ending) failure {
	var f *failure
	if errors.As(e.err, &f) {
		return *f
	}
	if e.err != nil {
		return failure{reason: e.err.Error()}
	}
	if cause := u.driver.cause(e.exit, e.ready); errors.As(cause, &f) {
		return failure{f.reason, append(f.remarks, u.driver.lastLines(6)...), f.taken}
	}
	s := u.snapshot()
	lasted := time.Since(s.Since)
	why := failure{remarks: u.driver.lastLines(6)}
	switch {
	case s.Trial && !e.ready:
		why.reason = fmt.Sprintf("%s, %s after its start", e.exit, Span(settle+lasted))
		if e.exit.OK() {
			why.reason += "; if it is meant to end by itself, add once = true"
		}
	case e.ready:
		why.reason = fmt.Sprintf("%s after %s", e.exit, Span(lasted))
	case lasted < 100*time.Millisecond:
		why.reason = fmt.Sprintf("%s at once, before it was ready", e.exit)
	default:
		why.reason = fmt.Sprintf("%s, %s after its start and before it was ready", e.exit, Span(lasted))
	}
	if !e.ready && s.Port != 0 && slices.ContainsFunc(why.remarks, func(l string) bool { return portTaken(l, s.Port) }) {
		why.taken = true // by somebody who is gone again
	}
	if line := u.driver.errorLine(); line != "" && !e.exit.OK() {
		why.reason += ": " + line
		if len(why.remarks) == 1 && strings.TrimSpace(why.remarks[0]) == line {
			why.remarks = nil // it has been said
		}
	}
	return why
}

// portTaken reports whether a line of output says that a port can't be listened
// on since somebody else does (EADDRINUSE, in the words of strerror).
func portTaken(line string, port int) bool {
	line = strings.ToLower(line)
	return strings.Contains(line, "address already in use") && strings.Contains(line, strconv.Itoa(port))
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
	u.keeper.saveSoon(u.svc.Name) // a keeper that follows must know it
}

// live leads through one life: from waiting for what it needs to the end of its process.
func (u *unit) live(ctx context.Context, p process) (end ending) {
	if p == nil {
		if err := u.awaitNeeds(ctx); err != nil {
			return ending{err: err}
		}
		u.enter(Starting, "")
		if err := u.driver.prepare(ctx, u.request(), u.set); err != nil {
			return ending{err: err, early: true}
		}
		u.enter(Starting, "")
		var err error
		u.mu.Lock()
		u.launched = time.Now()
		u.mu.Unlock()
		if p, err = u.driver.launch(); err != nil {
			return ending{err: err, early: true}
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
			u.halt(p)
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
		u.halt(p)
		return ending{err: ailed, ready: true}
	}
	// What ends within its trial was never ready.
	return ending{exit: p.Exit(), ready: !u.snapshot().Trial}
}

func (u *unit) request() request {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.asked
}

// awaitNeeds waits until all that the service needs is ready.
func (u *unit) awaitNeeds(ctx context.Context) error {
	for said := ""; ; {
		missing, blocked := u.keeper.missing(u.svc)
		if missing == "" {
			return ctx.Err()
		}
		if now := fmt.Sprint(missing, blocked); now != said {
			said = now
			u.set(func(s *Status) {
				s.State, s.Reason, s.Remarks, s.Blocked, s.Until = Waiting, missing, nil, blocked, time.Time{}
			})
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-u.moved:
		}
	}
}

// halt stops a process: the signal that asks it, its grace, and then a kill
// of everything that it started.
func (u *unit) halt(p process) {
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
