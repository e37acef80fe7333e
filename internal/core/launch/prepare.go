package launch

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/supervise"
	"neighbour/internal/core/words"
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

// preparations runs the declared commands that are due, each unless it has run
// since the start was asked for. What they print goes to the service's log.
func (d *Driver) preparations(ctx context.Context, in *kind.Instance, r supervise.Request, set func(func(*supervise.Status))) error {
	for _, p := range d.svc.Prepare {
		if err := d.preparation(ctx, in, r, p, set); err != nil {
			return err
		}
	}
	return nil
}

func (d *Driver) preparation(ctx context.Context, in *kind.Instance, r supervise.Request, p declare.Preparation, set func(func(*supervise.Status))) error {
	run := d.shared.of(d.project.PreparationKey(d.svc, p))
	err := run.take(ctx, d.svc.Name, func(other string) {
		set(func(s *supervise.Status) {
			s.State, s.Reason = supervise.Preparing, fmt.Sprintf("%s, which %s runs", p.Run, other)
		})
	})
	if err != nil {
		return err
	}
	defer func() { <-run.busy }()
	defer set(func(s *supervise.Status) { s.State, s.Reason = supervise.Starting, "" })
	if run.began.After(r.At) {
		return run.err
	}
	due, err := d.project.PreparationDue(d.svc, p)
	if err != nil {
		return err
	}
	if due.Why == "" && !r.Prepare {
		return nil
	}
	set(func(s *supervise.Status) { s.State, s.Reason = supervise.Preparing, p.Run.String() })
	began := time.Now()
	if err = d.runPreparation(ctx, in, p); err == nil {
		err = due.Done()
	}
	if ctx.Err() == nil {
		run.began, run.err = began, err
	}
	return err
}

func (d *Driver) runPreparation(ctx context.Context, in *kind.Instance, p declare.Preparation) error {
	argv, err := in.Argv(p.Run)
	if err != nil {
		return err
	}
	if argv[0], err = d.project.LookPath(d.svc, argv[0]); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	env, err := d.project.Environment(d.svc)
	if err != nil {
		return err
	}
	path := d.project.LogFile(d.svc.Name)
	out, err := journal.Open(path, int64(d.svc.Log.Keep))
	if err != nil {
		return fmt.Errorf("its log can't be written: %w", err)
	}
	defer out.Close()
	d.mu.Lock()
	d.launched = journal.Size(path)
	d.mu.Unlock()
	began := time.Now()
	process, err := proc.Start(proc.Spec{
		Argv: argv, Env: env, Dir: d.project.WorkingDir(d.svc),
		Mark: proc.Mark(d.project.Dir, d.svc.Name), Output: out, Account: in.Account,
	})
	if err != nil {
		return fmt.Errorf("prepare: %s can't be started: %w", argv[0], errors.Unwrap(err))
	}
	select {
	case <-process.Done():
	case <-ctx.Done():
		_, _ = process.End("TERM")
		select {
		case <-process.Done():
		case <-time.After(time.Second):
		}
	}
	// Nothing that it left may get in the way of the service.
	if err := process.KillAll(supervise.KillWait); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	<-process.Done()
	if exit := process.Exit(); !exit.OK() {
		return &supervise.Failure{Reason: fmt.Sprintf("prepare: %s: %s after %s", p.Run, exit, words.Span(time.Since(began))), Remarks: d.LastLines(6)}
	}
	return nil
}
