package launch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// Preparations lets services that prepare alike in the same folder do so once:
// the others wait, and take the result.
type Preparations struct {
	mu  sync.Mutex
	all map[string]*sharedRun // by project.PreparationKey
}

// sharedRun is one preparation of several services.
type sharedRun struct {
	busy chan struct{} // holds a value while it runs; who has put it there may use what follows
	// began is when the latest run began that was not cancelled, err how it
	// ended.
	began time.Time
	err   error

	mu sync.Mutex
	by string // the service that runs it
}

// NewPreparations returns preparations of which none has run.
func NewPreparations() *Preparations { return &Preparations{all: map[string]*sharedRun{}} }

func (s *Preparations) of(key string) *sharedRun {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.all[key]
	if r == nil {
		r = &sharedRun{busy: make(chan struct{}, 1)}
		s.all[key] = r
	}
	return r
}

// busy reports whether somebody runs a preparation.
func (s *Preparations) busy(key string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.all[key]
	return r != nil && len(r.busy) > 0
}

// take waits until nobody else runs the preparation. It calls waiting with the
// service that does.
func (r *sharedRun) take(ctx context.Context, service string, waiting func(other string)) error {
	select {
	case r.busy <- struct{}{}:
	default:
		r.mu.Lock()
		by := r.by
		r.mu.Unlock()
		waiting(by)
		select {
		case r.busy <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	r.mu.Lock()
	r.by = service
	r.mu.Unlock()
	return nil
}

// preparations runs a service's declared commands that are due, each unless it has
// run since the start was asked for. What they print goes to the log of the
// driver's service.
func (d *Driver) preparations(ctx context.Context, svc *declare.Service, r supervise.Request, set func(func(*supervise.Status))) error {
	// What is left out is told at once: it may be much, and takes no time.
	var skipped []supervise.Step
	tell := func() {
		if len(skipped) > 0 {
			note(set, skipped...)
			skipped = nil
		}
	}
	defer tell()
	for _, p := range svc.Prepare {
		if due, err := d.project.PreparationDue(svc, p); err == nil && due.Why == "" && !r.Prepare && !d.shared.busy(d.project.PreparationKey(svc, p)) {
			skipped = append(skipped, supervise.Step{What: p.Run.String(), Skipped: unchanged})
			continue
		}
		tell()
		if err := d.preparation(ctx, svc, r, p, set); err != nil {
			return err
		}
	}
	return nil
}

// unchanged is why most of what is left out is.
const unchanged = "nothing that it depends on has changed"

func (d *Driver) preparation(ctx context.Context, svc *declare.Service, r supervise.Request, p declare.Preparation, set func(func(*supervise.Status))) error {
	key := d.project.PreparationKey(svc, p)
	what := p.Run.String()
	return d.once(ctx, key, r, what, "", set, func() (project.Due, error) {
		due, err := d.project.PreparationDue(svc, p)
		if r.Prepare && due.Why == "" {
			due.Why = "it was asked for"
		}
		return due, err
	}, func() error { return d.runPreparation(ctx, svc, p) })
}

// errands runs those that are declared to run before the service, and are due.
func (d *Driver) errands(ctx context.Context, r supervise.Request, set func(func(*supervise.Status))) error {
	for _, e := range d.project.Before(d.svc.Name) {
		err := d.once(ctx, "errand "+e.Name, r, "errand "+e.Name, supervise.Running, set,
			func() (project.Due, error) { return d.project.ErrandDue(e) },
			func() error {
				if with := d.project.Service(e.WithService()); with != nil && with != d.svc {
					if err := d.preparations(ctx, with, r, set); err != nil {
						return err
					}
					set(func(s *supervise.Status) {
						s.State, s.Task, s.Reason = supervise.Preparing, supervise.Running, "errand "+e.Name
					})
				}
				_, err := RunErrand(ctx, d.project, e, nil, "before "+d.svc.Name, nil)
				return err
			})
		if err != nil {
			return err
		}
	}
	return nil
}

// once does something that several services may have in common, if it is due and
// was not done since the start was asked for.
func (d *Driver) once(ctx context.Context, key string, r supervise.Request, what string, task supervise.Task, set func(func(*supervise.Status)), find func() (project.Due, error), do func() error) error {
	run := d.shared.of(key)
	err := run.take(ctx, d.svc.Name, func(other string) {
		set(func(s *supervise.Status) {
			s.State, s.Task, s.Reason = supervise.Preparing, task, fmt.Sprintf("%s, which %s runs", what, other)
		})
	})
	if err != nil {
		return err
	}
	defer func() { <-run.busy }()
	if run.began.After(r.At) {
		set(func(s *supervise.Status) { s.State, s.Task, s.Reason = supervise.Starting, "", "" })
		return run.err
	}
	due, err := find()
	if err != nil {
		return err
	}
	if due.Why == "" {
		note(set, supervise.Step{What: what, Skipped: unchanged})
		return nil
	}
	began := time.Now()
	set(func(s *supervise.Status) {
		s.State, s.Task, s.Reason = supervise.Preparing, task, what
		s.Done = append(slices.Clone(s.Done), supervise.Step{What: what, Began: began, Usual: d.project.UsualTime(key)})
	})
	if err = do(); err == nil {
		err = due.Done()
	}
	took := since(began)
	set(func(s *supervise.Status) {
		s.State, s.Task, s.Reason = supervise.Starting, "", ""
		s.Done = slices.DeleteFunc(slices.Clone(s.Done), func(o supervise.Step) bool { return o.What == what && !o.Began.IsZero() })
		s.Done = append(s.Done, supervise.Step{What: what, Took: took})
	})
	if ctx.Err() == nil {
		run.began, run.err = began, err
	}
	if err == nil {
		err = d.project.NoteTime(key, took)
	}
	return err
}

func (d *Driver) runPreparation(ctx context.Context, svc *declare.Service, p declare.Preparation) error {
	c, err := d.project.PreparationCommand(svc, p)
	if err != nil {
		return err
	}
	if err = c.Missing(); err == nil {
		c.Argv[0], err = c.Program()
	}
	if err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	env, err := d.project.Environment(svc)
	if err != nil {
		return err
	}
	in, err := d.project.Instance(svc)
	if err != nil {
		return err
	}
	exit, took, remarks, err := d.runInLog(ctx, d.svc.Name, c.Argv, env, c.Dir, in.Account)
	if err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	if !exit.OK() {
		return &supervise.Failure{Reason: fmt.Sprintf("prepare: %s: %s after %s", p.Run, exit, words.Span(took)), Remarks: remarks}
	}
	return nil
}

// runInLog runs a command to its end, with the service's log as its output. Its
// processes are marked as those of a name. Of one that fails it returns the lines
// that tell most.
func (d *Driver) runInLog(ctx context.Context, name string, argv, env []string, dir string, account *proc.Account) (exit proc.Exit, took time.Duration, remarks []string, err error) {
	path := d.project.LogFile(d.svc.Name)
	out, err := journal.Open(path, int64(d.svc.Log.Keep))
	if err != nil {
		return exit, 0, nil, fmt.Errorf("its log can't be written: %w", err)
	}
	defer out.Close()
	d.mu.Lock()
	launched := d.launched
	d.launched = journal.Size(path)
	d.mu.Unlock()
	began := time.Now()
	process, err := proc.Start(proc.Spec{Argv: argv, Env: env, Dir: dir, Mark: d.project.Mark(name), Output: out, Account: account})
	if err != nil {
		return exit, 0, nil, fmt.Errorf("%s can't be started: %w", argv[0], errors.Unwrap(err))
	}
	// Nothing that it left may get in the way of the service.
	if err := await(ctx, process); err != nil {
		return exit, 0, nil, err
	}
	if ctx.Err() != nil {
		return exit, 0, nil, ctx.Err()
	}
	if exit = process.Exit(); !exit.OK() {
		remarks = d.LastLines(6)
	}
	if name != d.svc.Name {
		d.mu.Lock()
		d.launched = launched // the server's own output is still to be seen
		d.mu.Unlock()
	}
	return exit, time.Since(began), remarks, nil
}
