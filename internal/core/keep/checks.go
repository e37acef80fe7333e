package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"neighbour/internal/core/probe"
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
func (u *unit) becomeReady(ctx context.Context, p process) (over bool, end ending) {
	rules := u.driver.policy()
	check, provision, err := u.driver.starter()
	if err != nil {
		return true, ending{err: err}
	}
	defer done(check)
	began := time.Now()
	var limit <-chan time.Time
	if !rules.once {
		timer := time.NewTimer(rules.within)
		defer timer.Stop()
		limit = timer.C
		u.set(func(s *Status) { s.Until = began.Add(rules.within) })
	} else {
		u.set(func(s *Status) { s.Reason = "runs to its end" })
	}
	last := "no check has answered yet"
	looked, where := began, "" // when it was looked where it listens, and what was found
	for {
		var pause <-chan time.Time
		switch {
		case rules.once: // ready means ended
		case check == nil:
			pause = time.After(settle)
			if time.Since(began) >= settle {
				u.becameReady(began, rules.when != "always")
				return false, ending{}
			}
		default:
			answer, err, over := u.check(ctx, p, check, rules.timeout)
			if over {
				break // the select below tells why
			}
			// What a stranger on the service's port answers is no verdict, and
			// nothing is set up in a stranger's server.
			if err == nil || fatal(err) {
				if stranger := u.driver.foreign(p); stranger != nil {
					return true, ending{err: stranger}
				}
			}
			if err == nil && provision != nil {
				if err = provision(ctx, u.set); err != nil && ctx.Err() == nil {
					return true, ending{err: err}
				}
			}
			if err == nil {
				u.becameReady(began, false)
				return false, ending{}
			}
			if fatal(err) {
				return true, ending{err: err}
			}
			if since := time.Since(looked); since > lookEvery {
				looked, where = time.Now(), u.driver.listens(p)
			}
			if where != "" {
				answer += "; " + where
			}
			if answer != last {
				last = answer
				u.set(func(s *Status) { s.Reason = answer })
			}
			pause = time.After(pace(time.Since(began)))
		}
		select {
		case <-ctx.Done():
			return true, ending{err: ctx.Err()}
		case <-p.Done():
			return true, ending{exit: p.Exit()}
		case <-limit:
			reason := fmt.Sprintf("not ready within %s; newest check: %s", round(rules.within), last)
			if now := u.driver.listens(p); now != "" && where == "" {
				reason += "; " + now
			}
			if line := u.driver.errorLine(); line != "" {
				reason += "; it printed: " + line
			}
			return true, ending{err: &failure{reason: reason, remarks: u.driver.lastLines(6)}}
		case <-pause:
		}
	}
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
// told so.
func (u *unit) becameReady(began time.Time, onTrial bool) {
	u.set(func(s *Status) {
		s.Trial = onTrial
		s.State, s.Reason, s.Remarks, s.Until, s.Blocked = Ready, "", nil, time.Time{}, false
		s.ReadyMS = float64(time.Since(began).Microseconds()) / 1000
	})
}

// check runs one check; done says that the process ended or the attempt was
// cancelled before the check was through. On failure answer is the error's
// text.
func (u *unit) check(ctx context.Context, p process, check probe.Probe, timeout time.Duration) (answer string, err error, done bool) {
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
				r.err = fmt.Errorf("no answer within %s", round(timeout))
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
// comes back as an error.
func (u *unit) stayReady(ctx context.Context, p process) error {
	rules := u.driver.policy()
	check, err := u.driver.probe()
	if err != nil || check == nil {
		var over <-chan time.Time
		if s := u.snapshot(); s.Trial {
			over = time.After(trial - settle - time.Since(s.Since))
		}
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-p.Done():
				return nil
			case <-over:
				u.set(func(s *Status) { s.Trial = false })
			}
		}
	}
	defer done(check)
	next := time.NewTimer(untilBeat(rules.every, true))
	defer next.Stop()
	fails := 0
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-p.Done():
			return nil
		case <-next.C:
		}
		began := time.Now()
		answer, err, over := u.check(ctx, p, check, rules.timeout)
		if over {
			continue
		}
		took := float32(time.Since(began).Microseconds()) / 1000
		if err != nil {
			took = -1
			fails++
		} else {
			fails = 0
		}
		u.set(func(s *Status) {
			s.Checks.Total++
			s.Checks.Recent = push(s.Checks.Recent, recentChecks, took)
			if err != nil {
				s.Checks.Failed++
				s.Checks.LastFailed = time.Now()
			}
			switch {
			case fails >= rules.fails:
				s.State, s.Reason = Ailing, answer
			case err == nil && s.State == Ailing:
				s.State, s.Reason = Ready, ""
			}
		})
		if s := u.snapshot(); s.State == Ailing && rules.ailing > 0 && time.Since(s.Since) >= rules.ailing {
			return &failure{
				reason:  fmt.Sprintf("its check failed for %s: %s", Span(time.Since(s.Since)), answer),
				remarks: u.driver.lastLines(6),
			}
		}
		next.Reset(untilBeat(rules.every, false))
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
