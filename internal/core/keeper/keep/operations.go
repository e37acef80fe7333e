package keep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
)

// Start starts the named services and all that they need; without a name,
// all. It returns at once, with the time at which this start began: every
// status that is told from then on is newer. Services that run already are
// left as they are. If the context ends before another operation on the same
// services is through, nothing is done. Prepare makes preparations run whether they are due or not.
func (k *Keeper) Start(ctx context.Context, prepare bool, names ...string) (time.Time, error) {
	if err := k.decl.Check(names...); err != nil {
		return time.Time{}, err
	}
	if err := k.followBranch(ctx); err != nil {
		return time.Time{}, err
	}
	return k.startNamed(ctx, prepare, names)
}

// startNamed is Start but for what comes before.
func (k *Keeper) startNamed(ctx context.Context, prepare bool, names []string) (time.Time, error) {
	set := k.chosen(names)
	op, err := k.ops.begin(ctx, Start, "", set)
	if err != nil {
		return time.Time{}, err
	}
	k.writeEnvFile()
	for _, name := range set {
		if s := k.services[name]; s.Status().State == supervise.Ailing && k.project != nil && k.project.Kind(k.decl.Service(name)).Info().AnyFact {
			s.Stop() // it is started where it runs, too
		}
	}
	began := k.startAll(op.By, set, names, prepare)
	k.ops.release(op, k.progress)
	return began, nil
}

// progress returns how far a start has come with some services. One that is no
// longer declared has come to its end.
func (k *Keeper) progress(set []string) map[string]progress {
	out := map[string]progress{}
	for _, name := range set {
		if u := k.services[name]; u != nil {
			out[name] = progressOf(u.Status())
		} else {
			out[name] = progress{settled: true}
		}
	}
	return out
}

// agree remembers that the user wants what the project executes, since he has
// it started.
func (k *Keeper) agree() {
	if k.project == nil {
		return
	}
	if err := k.project.Agree(); err != nil {
		k.log.Error("what is executed can't be remembered", "why", err)
	}
	k.mu.Lock()
	k.overview.Unknown, k.overview.First = nil, false
	k.mu.Unlock()
}

func (k *Keeper) chosen(names []string) []string {
	if len(names) == 0 {
		names = k.decl.Names()
	}
	return k.plan.WithNeeds(names...)
}

// startAll starts exactly these. Those that are named are run again even if
// they have run to their end; see docs/CONCEPTS.md, "Once". If all of them run
// already, the time is that of the start which made them run.
func (k *Keeper) startAll(by string, set, named []string, prepare bool) time.Time {
	k.agree()
	began := time.Now()
	recordBegun := k.records.begin(began, by, k.decl.Profile, k.toRecord(set))
	var begun []string
	for _, name := range set {
		if k.services[name].Start(supervise.Request{At: began, Again: slices.Contains(named, name), Prepare: prepare}) {
			begun = append(begun, name)
		}
	}
	recordBegun(begun)
	for _, name := range set { // what another start has may have gone on meanwhile
		if !slices.Contains(begun, name) {
			k.records.changed(k.services[name].Status())
		}
	}
	any := len(begun) > 0
	k.mu.Lock()
	if any {
		k.overview.Began, k.overview.Took = began, 0
		k.log.Info("start", "services", strings.Join(set, " "))
	}
	began = k.overview.Began
	k.mu.Unlock()
	k.measureStart()
	return began
}

// Stop stops the named services and what needs them; without a name, all. It
// returns when nothing of them is left, with the names of those it stopped. A
// start of theirs that is under way ends. If the context ends before another
// operation on the same services is through, nothing is done.
func (k *Keeper) Stop(ctx context.Context, names ...string) ([]string, error) {
	if err := k.decl.Check(names...); err != nil {
		return nil, err
	}
	all := len(names) == 0
	if all {
		names = k.decl.Names()
	}
	set := k.plan.WithDependents(names...)
	op, err := k.ops.begin(ctx, Stop, "", set)
	if err != nil && k.ctx.Err() != nil && !k.Busy() {
		return nil, nil // another stop has ended everything, and the keeper with it
	}
	if err != nil {
		return nil, err
	}
	defer k.ops.finish(op, nil)
	k.ops.supersede(op)
	k.log.Info("stop", "services", strings.Join(set, " "))
	var touched []string
	for _, name := range set {
		if s := k.services[name].Status().State; s != supervise.Stopped && s != supervise.Finished && s != supervise.Failed {
			touched = append(touched, name)
		}
	}
	cancelled := k.ops.isCancelled(op)
	if all {
		k.cancelErrands()
	}
	k.stopAll(set, cancelled)
	if all && !cancelled() {
		k.awaitErrands(hookLimit) // those of on, and then the keeper ends
	}
	if all && !cancelled() && k.project != nil {
		k.endLostErrands()
		if n := proc.EndOrphans(2 * supervise.KillWait); n > 0 {
			k.log.Info("ended what services had left behind", "processes", n)
		}
	}
	return touched, nil
}

// stopAll stops these services, each after those of them that need it. Those
// that were not asked to end when cancelled says so go on; nil: it never does.
func (k *Keeper) stopAll(set []string, cancelled func() bool) {
	done := map[string]chan struct{}{}
	for _, name := range set {
		done[name] = make(chan struct{})
	}
	var all sync.WaitGroup
	for _, name := range set {
		all.Go(func() {
			defer close(done[name])
			for _, dependent := range k.plan.NeededBy(name) {
				if c, ok := done[dependent]; ok {
					<-c
				}
			}
			if cancelled == nil || !cancelled() {
				k.looks.close(name)
				k.services[name].Stop()
			}
		})
	}
	all.Wait()
}

// Restart stops and starts the named services, with all that they need if
// so asked; without a name, all. What needs them is left running and told.
// It returns when they have begun to start again, with the names of those
// that need a restarted service. Prepare is as for Start.
func (k *Keeper) Restart(ctx context.Context, withNeeds, prepare bool, names ...string) (told []string, began time.Time, err error) {
	if err := k.decl.Check(names...); err != nil {
		return nil, began, err
	}
	set := k.plan.WithNeeds(names...)
	if len(names) == 0 {
		set = k.chosen(nil)
	} else if !withNeeds {
		set = slices.DeleteFunc(set, func(n string) bool { return !slices.Contains(names, n) })
	}
	op, err := k.ops.begin(ctx, Restart, "", set)
	if err != nil {
		return nil, began, err
	}
	k.ops.supersede(op)
	cancelled := k.ops.isCancelled(op)
	k.stopAll(set, cancelled)
	if cancelled() {
		k.ops.finish(op, nil)
		return nil, began, errors.New("it was cancelled; what was stopped stays so")
	}
	began = k.startAll(op.By, set, set, prepare)
	k.ops.release(op, k.progress)
	for _, name := range k.plan.WithDependents(set...) {
		if slices.Contains(set, name) {
			continue
		}
		if s := k.services[name].Status().State; s == supervise.Ready || s == supervise.Ailing {
			told = append(told, name)
			note := fmt.Sprintf("%s was restarted at %s, and this was not", words.Join(among(k.plan.WithNeeds(name), set)), time.Now().Format("15:04:05"))
			k.services[name].Set(func(s *supervise.Status) { s.Reason = note })
		}
	}
	return told, began, nil
}

func among(names, set []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !slices.Contains(set, n) })
}

// UseEnvironment has what is started from now on inherit an environment, NAME=value each. See
// project.Project.UseEnvironment.
func (k *Keeper) UseEnvironment(environment []string) { k.project.UseEnvironment(environment) }
