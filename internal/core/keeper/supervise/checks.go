package supervise

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
)

// pace returns the pause between checks of a service that isn't ready yet: short
// at first, so that its becoming ready is seen at once.
func pace(since time.Duration) time.Duration {
	switch {
	case since < 500*time.Millisecond:
		return 5 * time.Millisecond
	case since < 5*time.Second:
		return 20 * time.Millisecond
	case since < 30*time.Second:
		return 50 * time.Millisecond
	}
	return 250 * time.Millisecond
}

// becomeReady checks until the service is ready. If it doesn't come to that,
// over is true and end says why.
func (sv *Service) becomeReady(ctx context.Context, p Process) (over bool, end ending) {
	rules := sv.driver.Policy()
	check, provision, err := sv.driver.Starter()
	if err != nil {
		return true, ending{err: err}
	}
	defer done(check)
	began := time.Now()
	sv.mu.Lock()
	launched := sv.launched
	sv.mu.Unlock()
	if launched.IsZero() { // adopted
		launched = began
	}
	var limit <-chan time.Time
	if !rules.Once {
		timer := time.NewTimer(rules.Within)
		defer timer.Stop()
		limit = timer.C
		sv.Set(func(s *Status) { s.Until = began.Add(rules.Within) })
	} else {
		sv.Set(func(s *Status) { s.Reason = "runs to its end" })
	}
	last := "no check has answered yet"
	looked, where := began, "" // when it was looked where it listens, and what was found
	for {
		var pause <-chan time.Time
		switch {
		case rules.Once: // ready means ended
		case check == nil:
			pause = time.After(settle)
			if time.Since(began) >= settle {
				sv.becameReady(launched, rules.When != "always", nil)
				return false, ending{}
			}
		default:
			answer, err, over := sv.check(ctx, p, check, rules.Timeout)
			if over {
				break // the select below tells why
			}
			// What a stranger on the service's port answers is no verdict, and
			// nothing is set up in a stranger's server.
			if err == nil || final(err) {
				if stranger := sv.driver.Foreign(p); stranger != nil {
					return true, ending{err: stranger}
				}
			}
			if err == nil && provision != nil {
				if err = provision(ctx, sv.Set); err != nil && ctx.Err() == nil {
					return true, ending{err: err}
				}
			}
			if err == nil {
				held := sv.setUp(ctx, p)
				select {
				case <-p.Done():
					return true, ending{exit: p.Exit()}
				default:
				}
				if ctx.Err() != nil {
					return true, ending{err: ctx.Err()}
				}
				sv.becameReady(launched, false, held)
				return false, ending{}
			}
			if final(err) {
				return true, ending{err: err}
			}
			if since := time.Since(looked); since > lookEvery {
				looked, where = time.Now(), sv.driver.Listens(p)
			}
			if where != "" {
				answer += "; " + where
			}
			if answer != last {
				last = answer
				sv.Set(func(s *Status) { s.Reason = answer })
			}
			pause = time.After(pace(time.Since(began)))
		}
		select {
		case <-ctx.Done():
			return true, ending{err: ctx.Err()}
		case <-p.Done():
			return true, ending{exit: p.Exit()}
		case <-limit:
			reason := fmt.Sprintf("not ready within %s; newest check: %s", words.Limit(rules.Within), last)
			if now := sv.driver.Listens(p); now != "" && where == "" {
				reason += "; " + now
			}
			if line := sv.driver.ErrorLine(); line != "" {
				reason += "; it printed: " + line
			}
			return true, ending{err: &Failure{Reason: reason, Remarks: sv.driver.LastLines(6)}}
		case <-pause:
		}
	}
}

// setUp brings what the service holds up to date. Its time is not limited by
// that of the start.
func (sv *Service) setUp(ctx context.Context, p Process) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-p.Done():
			cancel()
		case <-ctx.Done():
		}
	}()
	sv.Amend(func(s *Status) { s.Until = time.Time{} })
	return sv.driver.SetUp(ctx, sv.Set)
}

// done lets go of what a check has kept between the times that it was made.
func done(check probe.Probe) {
	if c, ok := check.(io.Closer); ok {
		go c.Close() // saying goodbye takes longer than anybody should wait
	}
}

// lookEvery is how often it is looked where a service listens that doesn't
// become ready.
const lookEvery = 2 * time.Second

// becameReady enters the state ready; onTrial says that nothing but time has
// told so, held why what needs it waits all the same.
func (sv *Service) becameReady(launched time.Time, onTrial bool, held error) {
	var f Failure
	if held != nil {
		f.Reason = held.Error()
		if failure := (*Failure)(nil); errors.As(held, &failure) {
			f = *failure
		}
	}
	sv.Set(func(s *Status) {
		s.Trial, s.Held = onTrial, held != nil
		s.State, s.Reason, s.Remarks, s.Until, s.Blocked, s.Task = Ready, f.Reason, f.Remarks, time.Time{}, false, ""
		s.ReadyMS = float64(time.Since(launched).Microseconds()) / 1000
	})
	if held != nil {
		sv.host.Note(sv.name, "held", journal.Error, f.Reason)
	}
}

// check runs one check; done says that the process ended or the attempt was
// cancelled before the check was through. On failure answer is the error's
// text.
func (sv *Service) check(ctx context.Context, p Process, check probe.Probe, timeout time.Duration) (answer string, err error, done bool) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	type result struct {
		answer string
		err    error
	}
	answered := make(chan result, 1)
	go func() {
		answer, err := check.Check(ctx)
		answered <- result{answer, err}
	}()
	select {
	case r := <-answered:
		if r.err != nil {
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				r.err = fmt.Errorf("no answer within %s", words.Limit(timeout))
			}
			return r.err.Error(), r.err, errors.Is(ctx.Err(), context.Canceled)
		}
		return r.answer, nil, false
	case <-p.Done():
		return "", nil, true
	}
}

// stayReady checks a ready service now and then until its process ends, it is
// stopped, or it has been ailing for so long that it is to be restarted, which
// comes back as an error. Again is true when the service is to be set up again.
func (sv *Service) stayReady(ctx context.Context, p Process) (again bool, err error) {
	rules := sv.driver.Policy()
	check, err := sv.driver.Probe()
	if err != nil || check == nil {
		if err == nil && !sv.Status().Checks.None {
			sv.Set(func(s *Status) { s.Checks.None = true })
		}
		var over <-chan time.Time
		if s := sv.Status(); s.Trial {
			sv.mu.Lock()
			launched := sv.launched
			sv.mu.Unlock()
			if launched.IsZero() { // by another keeper
				launched = s.Since.Add(-settle)
			}
			over = time.After(trial - time.Since(launched))
		}
		for {
			select {
			case <-ctx.Done():
				return false, nil
			case <-p.Done():
				return false, nil
			case <-sv.again:
				return true, nil
			case <-over:
				sv.Set(func(s *Status) { s.Trial = false })
			}
		}
	}
	defer done(check)
	next := time.NewTimer(untilBeat(rules.Every, true))
	defer next.Stop()
	fails := 0
	for {
		select {
		case <-ctx.Done():
			return false, nil
		case <-p.Done():
			return false, nil
		case <-sv.again:
			return true, nil
		case <-next.C:
		}
		began := time.Now()
		answer, err, over := sv.check(ctx, p, check, rules.Timeout)
		if over {
			continue
		}
		if sv.wasHeld(began) {
			next.Reset(untilBeat(rules.Every, false))
			continue
		}
		took := float32(time.Since(began).Microseconds()) / 1000
		if err != nil {
			took = -1
			fails++
		} else {
			fails = 0
		}
		sv.Set(func(s *Status) {
			s.Checks.Total++
			s.Checks.Recent = push(s.Checks.Recent, recentChecks, took)
			if err != nil {
				s.Checks.Failed++
				s.Checks.LastFailed = time.Now()
			}
			switch {
			case fails >= rules.Fails && !s.Held:
				s.State, s.Reason = Ailing, answer
			case err == nil && s.State == Ailing:
				s.State, s.Reason = Ready, ""
			case s.State != Ready && s.State != Ailing: // it is to be set up again
			}
		})
		if s := sv.Status(); s.State == Ailing && rules.Ailing > 0 && time.Since(s.Since) >= rules.Ailing {
			return false, &Failure{
				Reason:  fmt.Sprintf("its check failed for %s: %s", words.Span(time.Since(s.Since)), answer),
				Remarks: sv.driver.LastLines(6),
			}
		}
		next.Reset(untilBeat(rules.Every, false))
	}
}

// beat is the time on whose multiples checks are made: many checks at one
// waking cost an idle machine less than a waking for each.
const beat = 500 * time.Millisecond

// untilBeat returns the time to the next check, about a period from now; the first
// one comes earlier by chance, so that not all are made at one beat.
func untilBeat(every time.Duration, first bool) time.Duration {
	if first {
		every = rand.N(every) + 1
	}
	if every < 2*beat {
		return every
	}
	now := time.Now()
	return now.Add(every + beat/2).Truncate(beat).Sub(now)
}
