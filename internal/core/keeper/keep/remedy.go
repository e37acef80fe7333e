package keep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// Checks makes all checks of the project.
func (k *Keeper) Checks(ctx context.Context) []check.Finding {
	return check.Run(ctx, k.project, func(service string) check.Seen {
		if u := k.services[service]; u != nil {
			seen := SeenBy(u.Status())
			seen.Given = u.Given()
			return seen
		}
		return check.Seen{}
	})
}

// SeenBy returns what of a status matters to the checks of a service.
func SeenBy(s supervise.Status) check.Seen {
	return check.Seen{Running: s.State.Running(), Exposed: s.Exposed, Unwatched: s.Unwatched, PID: s.PID}
}

// endWait is how long a process that is asked to end is waited for.
const endWait = 5 * time.Second

// Remedy does something about a finding, as the user confirmed it, and returns
// what was done. The finding must still be there. If its service had failed it
// is started again.
func (k *Keeper) Remedy(ctx context.Context, id string, a check.Action) (string, error) {
	f, says, err := k.remedy(ctx, id, a)
	if err != nil || a.Declares() {
		return says, err
	}
	return says + k.TryAgain(ctx, f.Service), nil
}

// HasFailed reports whether a service has failed; false if there is none of
// that name.
func (k *Keeper) HasFailed(service string) bool {
	u := k.services[service]
	return u != nil && u.Status().State == supervise.Failed
}

// TryAgain starts a service that has failed, and returns what to say of it:
// "; api starts". It does nothing to one that has not.
func (k *Keeper) TryAgain(ctx context.Context, service string) string {
	if !k.HasFailed(service) {
		return ""
	}
	if _, err := k.Start(ctx, false, service); err != nil {
		return ""
	}
	return "; " + service + " starts"
}

// Confirm makes the checks again, and returns an error if a finding is no longer
// there or does not offer the action any more.
func (k *Keeper) Confirm(ctx context.Context, id string, a check.Action) error {
	_, err := k.confirm(ctx, id, a)
	return err
}

func (k *Keeper) confirm(ctx context.Context, id string, a check.Action) (check.Finding, error) {
	all := k.Checks(ctx)
	i := slices.IndexFunc(all, func(f check.Finding) bool { return f.ID == id })
	if i < 0 {
		return check.Finding{}, errors.New("that is no longer so; nothing was done")
	}
	// What was confirmed is done, or nothing: not something like it.
	if !slices.Contains(all[i].Actions, a) {
		return all[i], errors.New("things have changed meanwhile, so nothing was done; look again")
	}
	return all[i], nil
}

func (k *Keeper) remedy(ctx context.Context, id string, a check.Action) (f check.Finding, says string, err error) {
	if f, err = k.confirm(ctx, id, a); err != nil {
		return f, "", err
	}
	k.log.Info("remedy", "finding", id, "action", a.Do)
	switch a.Do {
	case check.UsePort:
		return f, fmt.Sprintf("%s has port %d until everything is stopped", f.Service, a.Port), k.usePort(f.Service, a.Port)
	case check.DeclarePort, check.LocalPort:
		change := project.Change{Service: f.Service, Port: &a.Port, Local: a.Do == check.LocalPort}
		if err := k.Edit(ctx, change); err != nil {
			return f, "", err
		}
		return f, fmt.Sprintf("port = %d is written to %s", a.Port, change.File()), k.usePort(f.Service, a.Port)
	case check.AdoptOutside:
		if err := k.Edit(ctx, project.Change{Service: f.Service, Local: true, Outside: fmt.Sprintf("127.0.0.1:%d", a.Port)}); err != nil {
			return f, "", err
		}
		return f, fmt.Sprintf("%s is outside in %s from now on", f.Service, declare.LocalFileName), nil
	case check.AddPreparation:
		if err := k.Edit(ctx, project.Change{Service: f.Service, Preparation: a.Command}); err != nil {
			return f, "", err
		}
		return f, "prepare is written to " + declare.FileName, nil
	case check.EndHolder:
		err := k.during(ctx, Remedy, f.Service, func() (err error) {
			says, err = k.endHolder(ctx, a)
			return err
		})
		return f, says, err
	case check.SwitchBranch, check.KeepBranch:
		does := k.SwitchBranch
		if a.Do == check.KeepBranch {
			does = k.KeepData
		}
		s, err := does(ctx)
		return f, "the data is that of " + s.To + " now", err
	case check.Restart:
		_, _, err := k.Restart(ctx, false, false, f.Service)
		return f, f.Service + " starts again", err
	case check.MakeFolder, check.ChangeRights:
		s := k.decl.Service(f.Service)
		in, err := k.project.Instance(s)
		if err != nil {
			return f, "", err
		}
		problem := proc.WriteProblem(in.Account, a.Dir)
		if problem == nil {
			return f, "it can be written now", nil
		}
		if err := k.during(ctx, Remedy, f.Service, problem.Mend); err != nil {
			return f, "", err
		}
		return f, "done: " + problem.Remedy, nil
	}
	return f, "", fmt.Errorf("the keeper doesn't know how to %s", a.Do)
}

// during does something with a service as an operation.
func (k *Keeper) during(ctx context.Context, does OperationKind, service string, do func() error) error {
	op, err := k.ops.begin(ctx, does, "", []string{service})
	if err != nil {
		return err
	}
	err = do()
	k.ops.finish(op, err)
	return err
}

// usePort gives a service another port until everything is stopped.
func (k *Keeper) usePort(service string, number int) error {
	if err := k.project.UsePort(service, number); err != nil {
		return err
	}
	k.services[service].Set(func(s *supervise.Status) { launch.Describe(k.project, k.decl.Service(service), s) })
	return nil
}

// endHolder asks the process that holds a port to end, and waits for the port.
func (k *Keeper) endHolder(ctx context.Context, a check.Action) (string, error) {
	if !a.Process.Alive() {
		return "it has ended already", nil
	}
	if err := proc.Ask(a.Process, "TERM"); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, endWait)
	defer cancel()
	for !port.Free(a.Port) {
		select {
		case <-ctx.Done():
			return "", fmt.Errorf("pid %d was asked to end and still holds port %d after %s; it may need longer, or refuse", a.Process.PID, a.Port, words.Limit(endWait))
		case <-time.After(20 * time.Millisecond):
		}
	}
	return fmt.Sprintf("port %d is free", a.Port), nil
}
