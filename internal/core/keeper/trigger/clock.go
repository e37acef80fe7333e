package trigger

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/schedule"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/record/outbox"
)

// Clock is what schedules take for the time: the machine's, or another that goes on from a
// moment that somebody chose. Its methods may be called at the same time.
type Clock struct {
	file string

	mu      sync.Mutex
	ahead   time.Duration
	set     time.Time     // what it was set to last; zero for the time of the machine
	changed chan struct{} // closed when it is moved
}

// OpenClock returns the clock that is kept in a file, which need not be there.
func OpenClock(file string) *Clock {
	c := &Clock{file: file, changed: make(chan struct{})}
	var saved struct {
		Ahead time.Duration `json:"ahead"`
	}
	if err := atomicfile.ReadJSON(file, &saved); err == nil {
		c.ahead = saved.Ahead
	}
	return c
}

// Now returns the time that schedules take it for.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.ahead)
}

// Ahead returns how far the clock is ahead of the machine's.
func (c *Clock) Ahead() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ahead
}

// Set has it be another time, from which on it goes as always; the zero time has it be that of
// the machine again. What comes at that very time happens.
func (c *Clock) Set(to time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ahead, c.set = 0, to
	if !to.IsZero() {
		c.ahead = time.Until(to)
	}
	close(c.changed)
	c.changed = make(chan struct{})
	if c.ahead == 0 {
		if err := os.Remove(c.file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	b, err := json.Marshal(map[string]any{"ahead": c.ahead})
	if err != nil {
		return err
	}
	return atomicfile.Write(c.file, b, 0o600)
}

// moved returns what is closed when the clock is moved, and what it was set to last, zero for the
// time of the machine.
func (c *Clock) moved() (<-chan struct{}, time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.changed, c.set
}

// tick adds an event whenever the schedule has it.
func (r *Runner) tick(ctx context.Context, t *declare.Trigger, at schedule.Schedule) {
	moved, _ := r.Clock.moved()
	from := r.Clock.Now()
	r.watch(t, true)
	for ctx.Err() == nil {
		next := at.Next(from)
		if next.IsZero() {
			return
		}
		timer := time.NewTimer(min(max(0, next.Sub(r.Clock.Now())), tickMost))
		select {
		case <-timer.C:
		case <-moved:
		case <-ctx.Done():
		}
		timer.Stop()
		now := r.Clock.Now()
		select {
		case <-moved: // so that the timer, and now, say nothing of next
			// What comes at that very time happens, however late this is looked at.
			if moved, from = r.Clock.moved(); from.IsZero() {
				from = r.Clock.Now()
			}
			from = from.Add(-moveGrace)
			continue
		default:
		}
		if ctx.Err() != nil || now.Before(next) {
			continue
		}
		from = next
		data, _ := json.Marshal(map[string]string{"at": next.Format(time.RFC3339), "schedule": at.String()})
		if r.add(ctx, t, []outbox.Event{{Type: "time", Subject: at.String(), At: next, Data: data}}, "") != nil {
			return
		}
	}
}

// tickMost is how long it is waited at a time: timers stand still while a machine sleeps.
const tickMost = 30 * time.Second

// moveGrace is how much later than a moment the clock may be set for it to happen.
const moveGrace = time.Second

// Next returns when a trigger comes next by the clock, n times.
func Next(t *declare.Trigger, from time.Time, n int) []time.Time {
	at, ok := t.On.Schedule()
	if !ok {
		return nil
	}
	var out []time.Time
	for range n {
		from = at.Next(from)
		if from.IsZero() {
			break
		}
		out = append(out, from)
	}
	return out
}

// explain says why a call failed.
func explain(err error, limit time.Duration) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return "it had not answered after " + limit.String()
	}
	return probe.Explain(err)
}
