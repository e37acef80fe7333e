package keep

import (
	"time"

	"neighbour/internal/core/journal"
	"neighbour/internal/core/proc"
)

// adopt finds the services of an earlier keeper and goes on with them.
func (k *Keeper) adopt() {
	state, err := readState(k.project.StateFile())
	if err != nil {
		k.log.Error("the earlier keeper's state is lost", "why", err)
		k.warn("the state of an earlier keeper can't be read: " + err.Error())
	}
	census, err := proc.TakeCensus()
	if err != nil {
		k.log.Error("adopting", "why", err)
		return
	}
	if !state.Keeper.SameBoot() {
		for name, s := range state.Services {
			if st := s.Status.State; st != Failed && st != Finished {
				delete(state.Services, name)
			}
		}
	}
	if !state.Overview.Began.IsZero() {
		k.overview.Began, k.overview.Took = state.Overview.Began, state.Overview.Took
	}
	var again, ending []string
	k.each(func(u *unit) {
		saved, known := state.Services[u.svc.Name]
		name := u.svc.Name
		lines, _ := journal.Last(k.project.LogFile(name), recentLines)
		u.status.Lines = lines
		if known && saved.ID.Alive() {
			p, err := u.driver.adopt(saved)
			if err == nil {
				k.log.Info("adopted", "service", name, "pid", saved.ID.PID)
				facts, port := u.status.Facts, u.status.Port
				needs, neededBy, step := u.status.Needs, u.status.NeededBy, u.status.Step
				u.status = Status(saved.Status)
				describe(k.project, u.svc, &u.status)
				u.status.Facts, u.status.Lines, u.status.Port = facts, lines, port
				u.status.Needs, u.status.NeededBy, u.status.Step = needs, neededBy, step
				if saved.Status.State == Stopping {
					ending = append(ending, name)
				}
				u.start(k.ctx, p, request{})
				return
			}
			k.log.Error("not adopted", "service", name, "why", err)
		}
		// Without its main process, the rest of a service is of no use.
		mark := proc.Mark(k.project.Dir, name)
		if rest := census.Belonging(proc.ID{}, mark); len(rest) > 0 {
			k.log.Info("ending what is left of a service", "service", name, "processes", len(rest))
			proc.Signal(rest, "KILL")
		}
		if !known {
			return
		}
		switch saved.Status.State {
		case Failed, Finished:
			last := saved.Status
			u.status.State, u.status.Reason, u.status.Remarks, u.status.Since, u.status.Tries, u.status.Early = last.State, last.Reason, last.Remarks, last.Since, last.Tries, last.Early
		case Stopped, Stopping:
		default: // it was to run
			again = append(again, name)
		}
	})
	if len(ending) > 0 {
		go func() {
			op, err := k.ops.begin(k.ctx, "stop", ending)
			if err != nil {
				return
			}
			defer k.ops.finish(op, nil)
			k.stopAll(ending, nil)
		}()
	}
	for _, name := range again {
		ran := state.Services[name].Status.State
		k.units[name].start(k.ctx, nil, request{at: time.Now(), again: true, crashed: ran == Ready || ran == Ailing})
	}
	k.ops.resume(state.Operations, k.come)
}
