package supervise

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
)

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

// KillWait is how long killed processes may take to be gone.
const KillWait = 2 * time.Second

// ending is how one life of a service came to its end by itself.
type ending struct {
	err   error     // it could not be started, or did not become ready
	exit  proc.Exit // else how its process ended
	ready bool      // it had been ready
	early bool      // it ended before its process was started
}

// supervise leads the service through its lives until it is stopped, fails,
// or finishes, and returns the change to its final state.
func (sv *Service) supervise(ctx context.Context, adopted Process) (final func(*Status)) {
	p := sv.driver.Policy()
	defer func() {
		if sv.ctx.Err() == nil {
			sv.driver.Ended()
		}
	}()
	var restarts []time.Time
	unready := 0 // tries in a row that did not come to it
	taken := 0   // tries whose port somebody else was quicker to take
	for try := 0; ; try++ {
		if try > taken { // preparations that run before each start are for this one
			sv.mu.Lock()
			sv.asked.At = time.Now()
			sv.mu.Unlock()
		}
		end := sv.live(ctx, adopted)
		if sv.ctx.Err() != nil {
			// The keeper ends, and the service goes on: another keeper finds it
			// as it is.
			return func(*Status) {}
		}
		adopted = nil
		sv.setProcess(proc.ID{})
		if ctx.Err() != nil {
			return func(s *Status) { *s = stopped(*s, "") }
		}
		if p.Once && end.err == nil && end.exit.OK() {
			took := float64(time.Since(sv.Status().Since).Microseconds()) / 1000
			final := finish(Finished, "exit 0", nil)
			return func(s *Status) {
				final(s)
				s.ReadyMS = took
			}
		}
		why := sv.explain(end)
		reason, remarks := why.Reason, why.Remarks
		sv.remember(reason, remarks)
		if why.Taken && sv.anyPort && taken < mostTaken {
			taken++
			sv.host.Note(sv.name, "port", journal.Warn, reason+"; another port is tried")
			continue
		}
		crashed := end.ready || try > taken || sv.request().Crashed
		switch {
		case end.err == nil && end.ready && end.exit.OK() && p.When != "always":
			return finish(Finished, `it ended by itself with exit 0; restart = { when = "always" } would start it again`, nil)
		case !crashed || p.Once || p.When == "never":
			final := finish(Failed, reason, remarks)
			return func(s *Status) {
				final(s)
				s.Early = end.early || why.Taken
			}
		}
		if unready++; end.ready {
			unready = 0
		}
		if unready >= p.Most {
			return finish(Failed, fmt.Sprintf("%s; it did not become ready in %d tries; giving up", reason, unready), remarks)
		}
		restarts = within(restarts, p.Window)
		if len(restarts) >= p.Most {
			return finish(Failed, fmt.Sprintf("%s; it was restarted %s within %s and ended each time; giving up", reason, words.Times(len(restarts)), words.Limit(p.Window)), remarks)
		}
		restarts = append(restarts, time.Now())
		pause := backOff(len(restarts))
		sv.Set(func(s *Status) {
			s.State, s.PID, s.Remarks, s.Restarts = Waiting, 0, remarks, s.Restarts+1
			s.Reason = fmt.Sprintf("%s; restart %d of at most %d within %s", reason, len(restarts), p.Most, words.Limit(p.Window))
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
func (sv *Service) explain(e ending) Failure {
	var f *Failure
	if errors.As(e.err, &f) {
		return *f
	}
	if e.err != nil {
		return Failure{Reason: e.err.Error()}
	}
	if cause := sv.driver.Cause(e.exit, e.ready); errors.As(cause, &f) {
		return Failure{f.Reason, append(f.Remarks, sv.driver.LastLines(6)...), f.Taken}
	}
	s := sv.Status()
	lasted := time.Since(s.Since)
	why := Failure{Remarks: sv.driver.LastLines(6)}
	switch {
	case s.Trial && !e.ready:
		why.Reason = fmt.Sprintf("%s, %s after its start", e.exit, words.Span(settle+lasted))
		if e.exit.OK() {
			why.Reason += "; if it is meant to end by itself, add once = true"
		}
	case e.ready:
		why.Reason = fmt.Sprintf("%s after %s", e.exit, words.Span(lasted))
	case lasted < 100*time.Millisecond:
		why.Reason = fmt.Sprintf("%s at once, before it was ready", e.exit)
	default:
		why.Reason = fmt.Sprintf("%s, %s after its start and before it was ready", e.exit, words.Span(lasted))
	}
	if !e.ready && s.Port != 0 && slices.ContainsFunc(why.Remarks, func(l string) bool { return portTaken(l, s.Port) }) {
		why.Taken = true // by somebody who is gone again
	}
	if line := sv.driver.ErrorLine(); line != "" && !e.exit.OK() {
		why.Reason += ": " + line
		if len(why.Remarks) == 1 && strings.TrimSpace(why.Remarks[0]) == line {
			why.Remarks = nil // it has been said
		}
	}
	return why
}

// portTaken reports whether a line of output says that a port can't be listened
// on since somebody else does (EADDRINUSE, in the words of strerror). Some programs
// don't say which.
func portTaken(line string, port int) bool {
	line = strings.ToLower(line)
	return strings.Contains(line, "address already in use") && (strings.Contains(line, strconv.Itoa(port)) || !anyPort.MatchString(line))
}

var anyPort = lazyregexp.New(`(?:[:.]|port )\d{2,5}\b`)

// remember keeps how a life of the service ended.
func (sv *Service) remember(reason string, lines []string) {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	began := sv.launched
	if began.IsZero() { // adopted
		began = sv.status.Since
	}
	sv.status.Tries = push(sv.status.Tries, recentTries, Try{Began: began, Ended: time.Now(), Reason: reason, Lines: lines})
}

func (sv *Service) setProcess(id proc.ID) {
	sv.mu.Lock()
	sv.id = id
	sv.mu.Unlock()
	sv.host.Replaced(sv.name) // a keeper that follows must know it
}

// live leads through one life: from waiting for what it needs to the end of its process.
func (sv *Service) live(ctx context.Context, p Process) (end ending) {
	select {
	case <-sv.again: // which the life before did not come to; this one is set up in any case
	default:
	}
	if p == nil {
		if err := sv.awaitNeeds(ctx); err != nil {
			return ending{err: err}
		}
		sv.enter(Starting, "")
		if err := sv.driver.Prepare(ctx, sv.request(), sv.Set); err != nil {
			return ending{err: err, early: true}
		}
		sv.enter(Starting, "")
		var err error
		sv.mu.Lock()
		sv.launched = time.Now()
		sv.mu.Unlock()
		if p, err = sv.driver.Launch(sv.Set); err != nil {
			return ending{err: err, early: true}
		}
		sv.setProcess(p.ID())
		sv.Set(func(s *Status) { s.PID = p.ID().PID })
		sv.host.Note(sv.name, "start", journal.Info, fmt.Sprintf("started, pid %d", p.ID().PID))
	} else {
		sv.mu.Lock()
		sv.launched = time.Time{} // by another
		sv.mu.Unlock()
		sv.setProcess(p.ID())
	}
	defer func() {
		if sv.ctx.Err() != nil {
			return
		}
		if ctx.Err() != nil {
			sv.halt(p)
			return
		}
		// Nothing of this life may get in the way of the next.
		if err := p.KillAll(KillWait); err != nil && end.err == nil {
			end.err = err
		}
	}()
	for again, ready := true, false; again; ready = true {
		if s := sv.Status().State; s != Ready && s != Ailing {
			if over, end := sv.becomeReady(ctx, p); over {
				end.ready = ready && end.err == nil // it ended while it was set up again
				return end
			}
		}
		var ailed error
		if again, ailed = sv.stayReady(ctx, p); ailed != nil {
			sv.halt(p)
			return ending{err: ailed, ready: true}
		}
		if again {
			sv.enter(Starting, "")
		}
	}
	// What ends within its trial was never ready.
	return ending{exit: p.Exit(), ready: !sv.Status().Trial}
}

func (sv *Service) request() Request {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.asked
}

// awaitNeeds waits until all that the service needs is ready.
func (sv *Service) awaitNeeds(ctx context.Context) error {
	for {
		missing, blocked := sv.host.Missing(sv.name)
		if missing == "" {
			return ctx.Err()
		}
		if s := sv.Status(); s.State != Waiting || s.Reason != missing || s.Blocked != blocked {
			sv.Set(func(s *Status) {
				s.State, s.Reason, s.Remarks, s.Blocked, s.Until = Waiting, missing, nil, blocked, time.Time{}
			})
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-sv.moved:
		}
	}
}

// halt stops a process: the signal that asks it, its grace, and then a kill
// of everything that it started.
func (sv *Service) halt(p Process) {
	rules := sv.driver.Policy()
	began := time.Now()
	sv.enter(Stopping, "sent SIG"+rules.Signal)
	sv.Set(func(s *Status) { s.Until = began.Add(rules.Grace) })
	_ = p.Signal(rules.Signal)
	select {
	case <-p.Done():
		// What it left behind is asked, too, and gets a moment.
		if n, _ := p.End("TERM"); n > 0 {
			deadline := began.Add(min(rules.Grace, time.Second))
			for pause := 2 * time.Millisecond; n > 0 && time.Now().Before(deadline); pause = min(2*pause, 50*time.Millisecond) {
				time.Sleep(pause)
				n, _ = p.End("TERM")
			}
		}
	case <-time.After(rules.Grace):
		sv.Set(func(s *Status) {
			s.Reason = fmt.Sprintf("did not end within %s of SIG%s, so it is killed", words.Limit(rules.Grace), rules.Signal)
		})
	}
	if err := p.KillAll(KillWait); err != nil {
		sv.log.Error("processes are left", "service", sv.name, "why", err)
	}
	// The kill makes the main process end at once; its parent learns of it.
	select {
	case <-p.Done():
	case <-time.After(KillWait):
	}
}
