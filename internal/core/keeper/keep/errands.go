package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/core/record/journal"
)

// errands are those that the keeper runs.
type errands struct {
	mu      sync.Mutex
	running map[int64]context.CancelFunc // by the number of the run
	pending int                          // how many there are, those too that have no number yet
}

// run does something in the background that counts as an errand under way.
func (e *errands) run(do func()) {
	e.mu.Lock()
	e.pending++
	e.mu.Unlock()
	go func() {
		defer func() {
			e.mu.Lock()
			e.pending--
			e.mu.Unlock()
		}()
		do()
	}()
}

func (e *errands) busy() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.pending > 0
}

// Errands lists the errands, with their latest runs.
func (k *Keeper) Errands() ([]insight.Errand, error) {
	return insight.Errands(k.project, func(name string) supervise.State { return k.services[name].Status().State })
}

// ErrNoErrand says that there is no errand of a name.
var ErrNoErrand = errors.New("there is no such errand")

// RunErrand runs an errand once what it needs is ready, which is started for it,
// and returns when it has begun.
func (k *Keeper) RunErrand(ctx context.Context, name string, args []string) (errand.Run, error) {
	e := k.decl.Errand(name)
	switch {
	case e == nil:
		return errand.Run{}, fmt.Errorf("%q: %w", name, ErrNoErrand)
	case e.Terminal:
		return errand.Run{}, fmt.Errorf("errand %s wants the terminal; run it there with: neighbour run %s", name, name)
	}
	return k.runErrand(e, args, asker(ctx), true, nil)
}

// runErrand begins to run an errand, and returns when that is noted. With start,
// what it needs is started first. Ended, if given, is called when it has ended.
func (k *Keeper) runErrand(e *declare.Errand, args []string, by string, start bool, ended func(errand.Run, error)) (errand.Run, error) {
	k.agree()
	// They end when the keeper does, but not before they are told to.
	ctx, cancel := context.WithCancel(AskedBy(context.WithoutCancel(k.ctx), by))
	op, err := k.ops.begin(ctx, Errand, e.Name, nil)
	if err != nil {
		cancel()
		return errand.Run{}, err
	}
	k.ops.stoppedBy(op, cancel)
	type begun struct {
		run errand.Run
		err error
	}
	began := make(chan begun, 1)
	k.errands.run(func() {
		defer cancel()
		id := int64(0)
		run, err := launch.RunErrand(ctx, k.project, e, args, by, func(r errand.Run, out io.Writer) error {
			id = r.ID
			k.errands.mu.Lock()
			k.errands.running[id] = cancel
			k.errands.mu.Unlock()
			began <- begun{run: r}
			k.touch("")
			if !start {
				return nil
			}
			return k.startFor(ctx, e, out)
		})
		k.errands.mu.Lock()
		delete(k.errands.running, id)
		k.errands.mu.Unlock()
		if ended != nil {
			ended(run, err)
		}
		k.noteErrand(run, err)
		k.ops.finish(op, err)
		k.touch("")
		select {
		case began <- begun{run, err}: // it did not come to it
		default:
		}
	})
	b := <-began
	return b.run, b.err
}

// noteErrand writes down how an errand ended.
func (k *Keeper) noteErrand(run errand.Run, err error) {
	name := run.Errand
	switch {
	case err == nil:
		k.note("", "errand", journal.Info, fmt.Sprintf("errand %s: %s after %s", name, run.Exit, words.Millis(run.Took)))
	case run.Result == errand.Cancelled:
		k.note("", "errand", journal.Warn, fmt.Sprintf("errand %s was cancelled after %s", name, words.Millis(run.Took)))
	default:
		k.note("", "errand", journal.Error, err.Error())
	}
}

// startFor starts what an errand needs, and waits until that is ready.
func (k *Keeper) startFor(ctx context.Context, e *declare.Errand, out io.Writer) error {
	var missing []string
	for _, name := range e.Needs {
		if s := k.services[name].Status(); s.State != supervise.Ready && s.State != supervise.Finished && s.State != supervise.Ailing || s.Held {
			missing = append(missing, name)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	fmt.Fprintf(out, "starting %s first\n", words.Join(missing))
	if _, err := k.Start(ctx, false, missing...); err != nil {
		return err
	}
	for {
		waits, gone := k.lacking(e.Needs)
		switch {
		case gone != "":
			return &supervise.Failure{Reason: fmt.Sprintf("errand %s needs %s", e.Name, gone)}
		case !waits:
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// lacking says whether some of these services are not ready yet, and which will
// not be.
func (k *Keeper) lacking(names []string) (waits bool, gone string) {
	for _, name := range names {
		s := k.services[name].Status()
		switch {
		case s.State == supervise.Ready && !s.Held, s.State == supervise.Finished, s.State == supervise.Ailing:
		case s.Optional && (s.State == supervise.Failed || s.Blocked || s.Held):
		case s.State == supervise.Failed:
			return false, name + ", which failed" + words.Because(s.Reason)
		case s.Held:
			return false, name + ", whose " + strings.TrimPrefix(s.Reason, "its ")
		case s.Blocked:
			return false, name + ", which waits " + s.Reason
		case s.State == supervise.Stopped:
			return false, name + ", which was stopped meanwhile"
		default:
			waits = true
		}
	}
	return waits, ""
}

// CancelErrand ends a run of an errand, also one that another process runs.
func (k *Keeper) CancelErrand(id int64) error {
	store := errand.NewStore(k.project.ErrandDir())
	run, err := store.Run(id)
	if err != nil {
		return err
	}
	k.errands.mu.Lock()
	cancel := k.errands.running[id]
	k.errands.mu.Unlock()
	switch {
	case run.Result != errand.UnderWay:
		return fmt.Errorf("errand %s has ended: %s", run.Errand, run.Result)
	case cancel != nil:
		cancel()
		return nil
	}
	return store.Cancel(id)
}

// ErrandOutput returns what a run of an errand has printed from a place on, the
// place after it, and the run.
func (k *Keeper) ErrandOutput(id, from int64) (ErrandOutput, error) {
	return ReadErrand(errand.NewStore(k.project.ErrandDir()), k.project.Mask, id, from)
}

// ErrandOutput is a part of what a run of an errand has printed.
type ErrandOutput struct {
	Run  errand.Run `json:"run"`
	Text string     `json:"text"`
	Next int64      `json:"next"` // the place after it
}

// ReadErrand reads a part of what a run has printed. Mask hides what nobody is to
// see.
func ReadErrand(store *errand.Store, mask func(string) string, id, from int64) (ErrandOutput, error) {
	run, err := store.Run(id)
	if err != nil {
		return ErrandOutput{}, err
	}
	b, next, err := store.Output(id, from)
	return ErrandOutput{run, mask(string(b)), next}, err
}

// hooks runs the errands that something happening to a service is to run.
func (k *Keeper) hooks(event, service string) {
	for _, e := range k.decl.Errands {
		if e.On.Events()[event] != service {
			continue
		}
		k.errands.run(func() {
			by := service + " " + map[string]string{"ready": "is ready", "failed": "failed", "stopped": "was stopped", "reset": "was emptied"}[event]
			// What is stopped is not started again for it.
			run, err := k.runErrand(e, nil, by, event == "ready" || event == "reset", nil)
			if err != nil && run.ID == 0 { // else it is in its record, and noted
				k.note("", "errand", journal.Error, fmt.Sprintf("errand %s can't be run: %s", e.Name, err))
			}
		})
	}
}

// endLimit is how long the end of a keeper waits for the errands that it ends.
const endLimit = 3 * time.Second

// hookLimit is how long a stop of everything waits for errands that it made run.
const hookLimit = 30 * time.Second

// cancelErrands ends the errands that run.
func (k *Keeper) cancelErrands() {
	k.errands.mu.Lock()
	defer k.errands.mu.Unlock()
	for _, cancel := range k.errands.running {
		cancel()
	}
}

// endLostErrands ends what is left of errands whose runner was killed.
func (k *Keeper) endLostErrands() {
	if k.project == nil {
		return
	}
	runs, err := errand.NewStore(k.project.ErrandDir()).Runs("", 1<<30)
	if err != nil {
		return
	}
	for _, r := range runs {
		if r.Result != errand.Lost || !r.Process.Alive() {
			continue
		}
		p, err := proc.Adopt(r.Process, "", "")
		if err == nil {
			err = p.KillAll(supervise.KillWait)
		}
		k.log.Info("ended an errand whose runner was killed", "errand", r.Errand, "pid", r.Process.PID, "why", err)
	}
}

// Migrations lists the migrations of a database.
func (k *Keeper) Migrations(ctx context.Context, service string) (launch.Migrations, error) {
	if err := k.decl.Check(service); err != nil {
		return launch.Migrations{}, err
	}
	state := k.services[service].Status().State
	return launch.MigrationsOf(ctx, k.project, service, state == supervise.Ready || state == supervise.Ailing)
}

// awaitErrands waits for the errands that run.
func (k *Keeper) awaitErrands(limit time.Duration) {
	for end := time.Now().Add(limit); k.errands.busy() && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
}
