package keep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/keeper/trigger"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/outbox"
)

// states tells who wants it which states services come to.
type states struct {
	mu   sync.Mutex
	told []func(service, state string, at time.Time)
}

func (s *states) tell(service, state string) {
	s.mu.Lock()
	told := slices.Clone(s.told)
	s.mu.Unlock() // who is told may ask to be told of more
	for _, f := range told {
		f(service, state, time.Now())
	}
}

// runTriggers runs the triggers until the keeper ends.
func (k *Keeper) runTriggers() {
	if k.project == nil || len(k.decl.Triggers) == 0 {
		return
	}
	box, err := k.openBox()
	if err != nil {
		k.warn("triggers", "the triggers do not work: "+err.Error())
		k.log.Error("triggers", "why", err)
		return
	}
	defer box.Close()
	r := trigger.New(k.project.Name, k.decl.Triggers, triggers{k}, box, trigger.OpenClock(k.project.ClockFile()))
	k.mu.Lock()
	k.trigger = r
	k.mu.Unlock()
	r.Run(k.ctx)
	k.mu.Lock()
	k.trigger = nil
	k.mu.Unlock()
}

func (k *Keeper) openBox() (*outbox.Box, error) {
	if err := k.project.EnsureDirs(); err != nil {
		return nil, err
	}
	return outbox.Open(k.project.EventsFile())
}

// triggers is the keeper as its triggers see it.
type triggers struct{ k *Keeper }

// Ready reports whether a service can be used.
func (t triggers) Ready(service string) bool {
	s := t.k.services[service].Status()
	return (s.State == supervise.Ready || s.State == supervise.Ailing) && !s.Held
}

func (t triggers) instance(service string) (kind.Kind, *kind.Instance, error) {
	s := t.k.project.Service(service)
	in, err := t.k.project.Instance(s)
	return t.k.project.Kind(s), in, err
}

// Follow tells what happens in a service.
func (t triggers) Follow(ctx context.Context, service string, w kind.Watch, cursor string, emit kind.Emit) error {
	is, in, err := t.instance(service)
	if err != nil {
		return err
	}
	e, ok := is.(kind.Emitter)
	if !ok {
		return fmt.Errorf("services of kind %s tell of no changes", is.Info().Name)
	}
	return e.Follow(ctx, in, w, cursor, emit)
}

// Take sends a message to a service.
func (t triggers) Take(ctx context.Context, service, to string, e outbox.Event) error {
	return t.k.Look(ctx, service, func(source store.Source) error {
		taker, ok := source.(kind.Taker)
		if !ok {
			return fmt.Errorf("%s takes no messages", service)
		}
		return taker.Take(ctx, to, e)
	})
}

// Expand resolves the references of a text.
func (t triggers) Expand(text string) (string, error) { return t.k.project.Wiring().Expand(text) }

// Forbids says why a trigger may not call its address.
func (t triggers) Forbids(tr *declare.Trigger) string {
	if !t.k.decl.Offline {
		return ""
	}
	hosts := t.k.project.CallsOutside(tr)
	if len(hosts) == 0 {
		return ""
	}
	return fmt.Sprintf("%s is outside this machine, and offline = true under [project] keeps it from calling; if it is meant: outside = [%q]", words.Join(hosts), "trigger."+tr.Name)
}

// inVariable is how long data may be to stand in a variable; the system has a limit.
const inVariable = 64 << 10

// Run runs an errand to its end.
func (t triggers) Run(ctx context.Context, name string, variables map[string]string, by string) (string, error) {
	e := t.k.decl.Errand(name)
	if e == nil {
		return "", ErrNoErrand
	}
	with := *e
	with.Env = maps.Clone(e.Env)
	if with.Env == nil {
		with.Env = map[string]declare.Text{}
	}
	file := filepath.Join(filepath.Dir(t.k.project.ClockFile()), "event-"+strconv.FormatInt(time.Now().UnixNano(), 36)+".json")
	if err := os.WriteFile(file, []byte(variables["EVENT_DATA"]), 0o600); err != nil {
		return "", err
	}
	defer os.Remove(file)
	variables["EVENT_FILE"] = file
	if len(variables["EVENT_DATA"]) > inVariable {
		delete(variables, "EVENT_DATA")
	}
	for name, value := range variables {
		with.Env[name] = declare.Text{Value: strings.ReplaceAll(value, "$", "$$")}
	}
	type ended struct {
		run errand.Run
		err error
	}
	over := make(chan ended, 1)
	run, err := t.k.runErrand(&with, nil, by, true, func(run errand.Run, err error) { over <- ended{run, err} })
	if err != nil && run.ID == 0 {
		return "", err
	}
	select {
	case e := <-over:
		var failure *supervise.Failure
		if errors.As(e.err, &failure) {
			return e.run.Line, errors.New(failure.Reason)
		}
		return e.run.Line, e.err
	case <-ctx.Done():
		_ = t.k.CancelErrand(run.ID)
		return "", ctx.Err()
	}
}

// States tells the states that services come to.
func (t triggers) States(ctx context.Context, began func(), told func(service, state string, at time.Time)) {
	type came struct {
		service, state string
		at             time.Time
	}
	// What is told must not hold up who tells it.
	const many = 1000
	all := make(chan came, many)
	t.k.states.mu.Lock()
	t.k.states.told = append(t.k.states.told, func(service, state string, at time.Time) {
		select {
		case all <- came{service, state, at}:
		default:
		}
	})
	t.k.states.mu.Unlock()
	began()
	for {
		select {
		case c := <-all:
			told(c.service, c.state, c.at)
		case <-ctx.Done():
			return
		}
	}
}

// Note writes what there is to know of a trigger to the log.
func (t triggers) Note(name string, failed bool, text string) {
	level := journal.Info
	if failed {
		level = journal.Warn
	}
	t.k.note("", "trigger", level, "trigger "+name+": "+t.k.project.Mask(text))
}

// Trigger is how a trigger is doing.
type Trigger struct {
	Name   string `json:"name"`
	About  string `json:"about,omitempty"`
	On     string `json:"on"`     // what happens
	Target string `json:"target"` // where that is sent
	// Waiting, Aside and Done are how many events wait, were put aside, and have arrived, of
	// those that are remembered.
	Waiting int `json:"waiting"`
	Aside   int `json:"aside"`
	Done    int `json:"done"`
	// Watched says that nothing that happens in its source is missed now.
	Watched bool `json:"watched"`
	// Paused says why nothing is sent; Problem, why its source can't be watched, or why what
	// waits first has not arrived.
	Paused  string     `json:"paused,omitempty"`
	Problem string     `json:"problem,omitempty"`
	Last    *time.Time `json:"last,omitempty"` // when something was sent last
	Next    *time.Time `json:"next,omitempty"` // when it comes next by the clock
}

// Triggers is how the triggers are doing.
type Triggers struct {
	Triggers []Trigger `json:"triggers"`
	// Clock is the time by which schedules go, and AheadMS how far that is ahead of the
	// machine's, in milliseconds.
	Clock   time.Time `json:"clock"`
	AheadMS int64     `json:"ahead_ms"`
}

// ErrNoTrigger says that there is no trigger of a name.
var ErrNoTrigger = errors.New("there is no such trigger")

func (k *Keeper) triggering() (*trigger.Runner, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case k.trigger != nil:
	case len(k.decl.Triggers) == 0:
		return nil, errors.New("no triggers are declared; [trigger.NAME] with on and call is one")
	case k.overview.Warning != "": // what else there is wrong may be why
		return nil, errors.New(k.overview.Warning)
	default:
		return nil, errors.New("the triggers have not begun yet")
	}
	return k.trigger, nil
}

// Triggers says how the triggers are doing.
func (k *Keeper) Triggers() (Triggers, error) {
	out := Triggers{Triggers: []Trigger{}, Clock: time.Now()}
	if len(k.decl.Triggers) == 0 {
		return out, nil
	}
	r, err := k.triggering()
	if err != nil {
		return out, err
	}
	out.Clock, out.AheadMS = r.Clock.Now(), r.Clock.Ahead().Milliseconds()
	for _, t := range k.decl.Triggers {
		sum, err := r.Box.Summary(t.Name)
		if err != nil {
			return out, err
		}
		one := Trigger{Name: t.Name, About: t.About, On: t.On.String(), Target: t.Target(), Waiting: sum.Waiting, Aside: sum.Aside, Done: sum.Done, Watched: r.Watched(t.Name), Paused: sum.Paused, Problem: cmp.Or(r.Problem(t.Name), sum.Problem)}
		if sum.Full {
			one.Problem = outbox.ErrFull.Error()
		}
		if !sum.Last.IsZero() {
			one.Last = &sum.Last
		}
		if next := trigger.Next(t, out.Clock, 1); len(next) > 0 {
			one.Next = &next[0]
		}
		out.Triggers = append(out.Triggers, one)
	}
	return out, nil
}

// FireTrigger sends an event by hand, with data as JSON, and returns its number.
func (k *Keeper) FireTrigger(ctx context.Context, name string, data []byte) (int64, error) {
	r, err := k.triggering()
	if err != nil {
		return 0, err
	}
	t := k.decl.Trigger(name)
	if t == nil {
		return 0, fmt.Errorf("%q: %w", name, ErrNoTrigger)
	}
	// The latest event of the trigger is what such a one looks like.
	e := outbox.Event{Type: "by hand", Subject: t.On.String(), Data: data}
	if len(data) == 0 {
		e.Data = []byte("{}")
		if last, err := r.Box.List(name, true, 0, 1); err == nil && len(last) == 1 {
			if d, err := r.Box.Get(last[0].ID); err == nil {
				e = d.Event
				e.At = time.Time{}
			}
		}
	}
	return r.Box.Fire(ctx, name, asker(ctx), e)
}

// PauseTrigger has nothing of a trigger be sent, or with paused false has it go on.
func (k *Keeper) PauseTrigger(name string, paused bool) error {
	r, err := k.triggering()
	if err != nil {
		return err
	}
	if k.decl.Trigger(name) == nil {
		return fmt.Errorf("%q: %w", name, ErrNoTrigger)
	}
	why := ""
	if paused {
		why = "paused by hand"
	}
	defer k.touch("")
	return r.Box.Pause(name, why)
}

// RetryEvent sends an event of a trigger, or a webhook, once more, and returns its number.
func (k *Keeper) RetryEvent(ctx context.Context, id int64) (int64, error) {
	if r := k.runner(); r != nil {
		if n, err := r.Box.Retry(ctx, id, asker(ctx)); !errors.Is(err, outbox.ErrNone) {
			return n, err
		}
	}
	return k.atWebhook(ctx, id, "retry")
}

// DropEvent has an event of a trigger, or a webhook, not be sent any more.
func (k *Keeper) DropEvent(ctx context.Context, id int64) error {
	if r := k.runner(); r != nil {
		if err := r.Box.Drop(id); !errors.Is(err, outbox.ErrNone) {
			return err
		}
	}
	_, err := k.atWebhook(ctx, id, "drop")
	return err
}

// SetClock has schedules take it for another time, from which on it goes as always; the zero
// time is the machine's again.
func (k *Keeper) SetClock(to time.Time) error {
	r, err := k.triggering()
	if err != nil {
		return err
	}
	defer k.touch("")
	return r.Clock.Set(to)
}

// Coming lists what comes next by the clock of schedules, n at most.
func (k *Keeper) Coming(n int) ([]Coming, error) {
	r, err := k.triggering()
	if err != nil {
		return nil, err
	}
	return ComingTriggers(k.decl, r.Clock.Now(), n), nil
}

// Coming is a moment at which a trigger comes.
type Coming struct {
	At      time.Time `json:"at"`
	Trigger string    `json:"trigger"`
	Target  string    `json:"target"`
}

// ComingTriggers lists what comes next by the clock, the soonest first, n at most.
func ComingTriggers(d *declare.Declaration, from time.Time, n int) []Coming {
	out := []Coming{}
	for _, t := range d.Triggers {
		for _, at := range trigger.Next(t, from, n) {
			out = append(out, Coming{at, t.Name, t.Target()})
		}
	}
	slices.SortFunc(out, func(a, b Coming) int { return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Trigger, b.Trigger)) })
	return out[:min(n, len(out))]
}
