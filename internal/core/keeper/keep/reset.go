package keep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// Loss is what emptying a service's data would take away.
type Loss struct {
	Service string `json:"service"`
	// Contents says what it holds, a line for each database or the like; empty if
	// that can't be told, as when it doesn't run.
	Contents []string `json:"contents"`
	Bytes    uint64   `json:"bytes"` // on disk
	// Stops are those that are stopped for it, and started again.
	Stops []string `json:"stops"`
}

// Lose tells what emptying the data of services would take away. It fails for one
// that has no data.
func Lose(ctx context.Context, p *project.Project, state func(service string) supervise.State, names ...string) ([]Loss, error) {
	if err := p.Check(names...); err != nil {
		return nil, err
	}
	out := []Loss{}
	for _, name := range names {
		s := p.Service(name)
		if !p.KeepsData(s) {
			return nil, fmt.Errorf("%s is of kind %s, which keeps no data of its own", name, s.Kind)
		}
		in, err := p.Instance(s)
		if err != nil {
			return nil, err
		}
		l := Loss{Service: name, Contents: []string{}, Bytes: project.Size(p.DataOf(in)...)}
		running := state(name) == supervise.Ready || state(name) == supervise.Ailing
		if c, ok := p.Kind(s).(kind.Counter); ok && running {
			limited, cancel := context.WithTimeout(ctx, 10*time.Second)
			if contents, err := c.Contents(limited, in); err == nil {
				l.Contents = contents
			}
			cancel()
		}
		for _, d := range p.Plan.WithDependents(name) {
			if d != name && state(d).Running() {
				l.Stops = append(l.Stops, d)
			}
		}
		out = append(out, l)
	}
	return out, nil
}

// Loss tells what emptying the data of services would take away.
func (k *Keeper) Loss(ctx context.Context, names ...string) ([]Loss, error) {
	return Lose(ctx, k.project, func(name string) supervise.State { return k.services[name].Status().State }, names...)
}

// Reset empties the data of services. What needs them is stopped before, and they
// are started again with what was stopped, so that they are migrated and seeded.
// It returns when they have begun to start.
func (k *Keeper) Reset(ctx context.Context, names ...string) (began time.Time, err error) {
	if len(names) == 0 {
		return began, errors.New("say which services' data is to be emptied")
	}
	if _, err := Lose(ctx, k.project, func(string) supervise.State { return supervise.Stopped }, names...); err != nil {
		return began, err
	}
	set := k.plan.WithDependents(names...)
	op, err := k.ops.begin(ctx, Reset, "", set)
	if err != nil {
		return began, err
	}
	k.ops.supersede(op)
	var again []string
	for _, name := range set {
		if s := k.services[name]; s.Wanted() || slices.Contains(names, name) {
			again = append(again, name)
		}
	}
	// First, so that what can't be noted stops this before anything is lost.
	if err := k.project.ForgetErrands(names...); err != nil {
		k.ops.finish(op, err)
		return began, err
	}
	k.stopAll(set, nil)
	for _, name := range names {
		if err := k.project.Empty(name); err != nil {
			err = fmt.Errorf("the data of %s can't be emptied: %w", name, err)
			k.ops.finish(op, err)
			return began, err
		}
		k.note(name, "reset", journal.Warn, "its data was emptied")
	}
	began = k.startAll(op.By, k.plan.WithNeeds(again...), again, false)
	k.ops.release(op, k.progress)
	for _, name := range names {
		k.hooks("reset", name)
	}
	return began, nil
}
