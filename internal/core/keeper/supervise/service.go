// Package supervise leads one service through its states: from waiting for
// what it needs through its start and its checks to its end, with restarts in
// between. It knows of no project and of no other service; what differs from
// service to service is behind a Driver, whoever supervises several is a Host.
package supervise

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"neighbour/internal/core/machine/proc"
)

// Service is one service under supervision. While it is wanted, one goroutine
// leads it through its states; one that isn't wanted has none. Its methods may
// be called concurrently.
type Service struct {
	name    string
	anyPort bool
	driver  Driver
	host    Host
	ctx     context.Context
	log     *slog.Logger

	mu       sync.Mutex
	status   Status
	id       proc.ID // of its process, zero if there is none
	launched time.Time
	attempt  *attempt
	asked    Request // of the attempt
	// moved holds a value when something that it needs may have come into
	// another state.
	moved chan struct{}
	again chan struct{} // holds a value when SetUp is to be done again
	// held is by how many it is held still, and released when the last let it go.
	held     int
	released time.Time
}

// Config is what a service is made of.
type Config struct {
	// AnyPort says that the service may have any port, so that it is tried with
	// another one if somebody was quicker to take its own.
	AnyPort bool
	Driver  Driver
	Host    Host
	Log     *slog.Logger
	Status  Status // at first
}

// New makes a service, and starts nothing. When the context ends the
// supervision does; its process goes on.
func New(ctx context.Context, c Config) *Service {
	return &Service{
		name: c.Status.Name, anyPort: c.AnyPort, driver: c.Driver, host: c.Host, ctx: ctx, log: c.Log,
		status: c.Status, moved: make(chan struct{}, 1), again: make(chan struct{}, 1),
	}
}

// Name returns the service's name.
func (sv *Service) Name() string { return sv.name }

// Status returns the service as it is now.
func (sv *Service) Status() Status {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.status
}

// Process returns the service's main process, the zero ID if it has none.
func (sv *Service) Process() proc.ID {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.id
}

// Left returns what is to be known of the service by who supervises it next.
func (sv *Service) Left() Left {
	sv.mu.Lock()
	l := Left{ID: sv.id, Status: sv.status}
	sv.mu.Unlock()
	l.Given = sv.driver.Given()
	return l
}

// Given returns digests of the variables that the service was started with.
func (sv *Service) Given() map[string]string { return sv.driver.Given() }

// Wanted reports whether the service runs, or is to run.
func (sv *Service) Wanted() bool {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.attempt != nil
}

// Settled reports whether a start of the service has come to its end.
func (sv *Service) Settled() bool {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.status.State.Settled() || sv.status.Blocked
}

// Wake has the service look again at what it waits for.
func (sv *Service) Wake() {
	select {
	case sv.moved <- struct{}{}:
	default:
	}
}

// Hold says that the service is made to stand still, so that a check which fails tells nothing,
// until release is called.
func (sv *Service) Hold() (release func()) {
	sv.mu.Lock()
	sv.held++
	sv.mu.Unlock()
	return func() {
		sv.mu.Lock()
		sv.held--
		sv.released = time.Now()
		sv.mu.Unlock()
	}
}

// wasHeld reports whether the service stood still at some time since began.
func (sv *Service) wasHeld(began time.Time) bool {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	return sv.held > 0 || sv.released.After(began)
}

// attempt is the time from a start to the state that ends it.
type attempt struct {
	cancel context.CancelFunc
	done   chan struct{}
}

// Start begins an attempt, unless one is under way or the service has run to
// its end as it should, and reports whether it has.
func (sv *Service) Start(r Request) bool {
	if sv.start(nil, r) || sv.setUpAgain() {
		return true
	}
	sv.reconsider()
	return false
}

// reconsider has a service look again at what it waits for and what would not have come by itself.
// Until it has, it is not blocked: what it was blocked by may have been started with it.
func (sv *Service) reconsider() {
	again := false
	sv.Set(func(s *Status) {
		if again = s.State == Waiting && s.Blocked; again {
			s.Reason, s.Blocked = "", false
		}
	})
	if again {
		sv.Wake()
	}
}

// setUpAgain has a service that is ready set up again if that has something to
// do, and reports whether it has.
func (sv *Service) setUpAgain() bool {
	s := sv.Status()
	if s.State != Ready || !s.Held && !sv.driver.Outdated() {
		return false
	}
	again := false
	sv.Set(func(s *Status) {
		if again = s.State == Ready; again {
			s.State, s.Reason, s.Remarks, s.Held, s.Began = Starting, "", nil, false, time.Now()
		}
	})
	if again {
		select {
		case sv.again <- struct{}{}:
		default:
		}
	}
	return again
}

// Adopt goes on with what an earlier supervision left: its process, and its
// status as renew changes it. If the process can't be had, nothing changes.
func (sv *Service) Adopt(left Left, renew func(*Status)) error {
	p, err := sv.driver.Adopt(left)
	if err != nil {
		return err
	}
	sv.Amend(func(s *Status) {
		*s = left.Status
		s.PID = p.ID().PID // which may have been saved before its status told of it
		renew(s)
	})
	sv.start(p, Request{})
	return nil
}

func (sv *Service) start(adopted Process, r Request) bool {
	sv.mu.Lock()
	done := sv.status.State == Finished && sv.driver.Policy().Once
	if sv.attempt != nil || done && !r.Again && adopted == nil {
		sv.mu.Unlock()
		return false
	}
	ctx, cancel := context.WithCancel(sv.ctx)
	a := &attempt{cancel: cancel, done: make(chan struct{})}
	sv.attempt, sv.asked = a, r
	before := sv.status.State
	if adopted == nil {
		sv.status.Began = time.Now()
		sv.status.Restarts, sv.status.Tries = 0, nil
		sv.status.Checks = Checks{}
		sv.status.State, sv.status.Reason, sv.status.Remarks, sv.status.Since = Waiting, "", nil, time.Now()
		sv.status.Early, sv.status.Held, sv.status.Task, sv.status.Done = false, false, "", nil
	}
	now := sv.status
	sv.mu.Unlock()
	sv.host.Changed(before, now, adopted == nil)
	go func() {
		sv.end(sv.supervise(ctx, adopted))
		cancel()
		close(a.done)
	}()
	return true
}

// end ends the attempt with its final state: both at once, so that who sees
// the state may start the service again, and no start comes between.
func (sv *Service) end(final func(*Status)) {
	sv.Set(func(s *Status) {
		sv.attempt = nil
		final(s)
	})
}

// Stop ends the attempt and waits until nothing of the service is left.
func (sv *Service) Stop() {
	sv.mu.Lock()
	a := sv.attempt
	sv.mu.Unlock()
	if a == nil {
		sv.Set(func(s *Status) {
			if s.State != Stopped {
				*s = stopped(*s, "")
			}
		})
		return
	}
	a.cancel()
	<-a.done
}

// Amend changes the status and tells nobody. Change is called with the service
// locked.
func (sv *Service) Amend(change func(*Status)) {
	sv.mu.Lock()
	defer sv.mu.Unlock()
	change(&sv.status)
}

// Set changes the status and tells the host. Change is called with the service
// locked.
func (sv *Service) Set(change func(*Status)) {
	sv.mu.Lock()
	state, blocked, held, onTrial, task := sv.status.State, sv.status.Blocked, sv.status.Held, sv.status.Trial, sv.status.Task
	change(&sv.status)
	if sv.status.State != state {
		sv.status.Since = time.Now()
	}
	// That it can't start matters to those who wait for it, as a state does.
	moved := sv.status.State != state || sv.status.Blocked != blocked || sv.status.Held != held || sv.status.Task != task || sv.status.Trial != onTrial
	now := sv.status
	sv.mu.Unlock()
	sv.host.Changed(state, now, moved)
}

// enter moves to a state.
func (sv *Service) enter(state State, reason string) {
	sv.Set(func(s *Status) {
		s.State, s.Reason, s.Remarks, s.Blocked, s.Until, s.Task, s.Held = state, reason, nil, false, time.Time{}, "", false
	})
}

func stopped(s Status, reason string) Status {
	s.State, s.Reason, s.Remarks, s.Blocked, s.PID, s.Until, s.Task, s.Held = Stopped, reason, nil, false, 0, time.Time{}, "", false
	s.ReadyMS, s.Usage, s.Over, s.Exposed, s.Misbehaves, s.Wrong, s.Trial, s.Early = 0, Usage{}, "", "", "", "", false, false
	return s
}
