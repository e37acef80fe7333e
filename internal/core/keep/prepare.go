package keep

import (
	"context"
	"errors"
	"fmt"
	"time"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/proc"
)

// preparations runs the declared commands whose files have changed since they
// last ended well. What they print goes to the service's log.
func (d *serverDriver) preparations(ctx context.Context, in *kind.Instance, set func(func(*Status))) error {
	for _, p := range d.svc.Prepare {
		due, done, err := d.project.PreparationDue(d.svc, p)
		if err != nil {
			return err
		}
		if !due {
			continue
		}
		set(func(s *Status) { s.State, s.Reason = Preparing, p.Run.String() })
		if err := d.runPreparation(ctx, in, p); err != nil {
			return err
		}
		if err := done(); err != nil {
			return err
		}
		set(func(s *Status) { s.State, s.Reason = Starting, "" })
	}
	return nil
}

func (d *serverDriver) runPreparation(ctx context.Context, in *kind.Instance, p declare.Preparation) error {
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
	if err := process.KillAll(killWait); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	<-process.Done()
	if exit := process.Exit(); !exit.OK() {
		return &failure{reason: fmt.Sprintf("prepare: %s: %s after %s", p.Run, exit, Span(time.Since(began))), remarks: d.lastLines(6)}
	}
	return nil
}
