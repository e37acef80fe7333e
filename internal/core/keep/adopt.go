package keep

import (
	"slices"
	"time"

	"neighbour/internal/core/journal"
	"neighbour/internal/core/launch"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/supervise"
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
			if st := s.Status.State; st != supervise.Failed && st != supervise.Finished {
				delete(state.Services, name)
			}
		}
	}
	if !state.Overview.Began.IsZero() {
		k.overview.Began, k.overview.Took = state.Overview.Began, state.Overview.Took
	}
	// Nobody waits any more for what the keeper before was running.
	var marks []string
	for _, name := range k.decl.Names() {
		marks = append(marks, "seed."+name)
	}
	for _, e := range k.decl.Errands {
		marks = append(marks, "errand."+e.Name)
	}
	for _, mark := range marks {
		killAll(census.Belonging(proc.ID{}, k.project.Mark(mark)))
	}
	var again, ending []string
	k.each(func(u *supervise.Service) {
		name := u.Name()
		saved, known := state.Services[name]
		lines, _ := journal.Last(k.project.LogFile(name), supervise.RecentLines)
		u.Amend(func(s *supervise.Status) { s.Lines = lines })
		if known && saved.ID.Alive() {
			now := u.Status()
			left := supervise.Left{ID: saved.ID, Status: supervise.Status(saved.Status), Given: saved.Given}
			err := u.Adopt(left, func(s *supervise.Status) {
				launch.Describe(k.project, k.decl.Service(name), s)
				s.Facts, s.Lines, s.Port = now.Facts, now.Lines, now.Port
				s.Needs, s.NeededBy, s.Step = now.Needs, now.NeededBy, now.Step
			})
			if err == nil {
				k.log.Info("adopted", "service", name, "pid", saved.ID.PID)
				if saved.Status.State == supervise.Stopping {
					ending = append(ending, name)
				}
				return
			}
			k.log.Error("not adopted", "service", name, "why", err)
		}
		// Without its main process, the rest of a service is of no use.
		mark := k.project.Mark(name)
		if rest := census.Belonging(proc.ID{}, mark); len(rest) > 0 {
			k.log.Info("ending what is left of a service", "service", name, "processes", len(rest))
			killAll(rest)
		}
		if !known {
			return
		}
		switch saved.Status.State {
		case supervise.Failed, supervise.Finished:
			last := saved.Status
			u.Amend(func(s *supervise.Status) {
				s.State, s.Reason, s.Remarks, s.Since, s.Tries, s.Early = last.State, last.Reason, last.Remarks, last.Since, last.Tries, last.Early
			})
		case supervise.Stopped, supervise.Stopping:
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
		k.services[name].Start(supervise.Request{At: time.Now(), Again: true, Crashed: ran == supervise.Ready || ran == supervise.Ailing})
	}
	k.ops.resume(state.Operations, k.progress)
}

// killAll kills processes, and waits until they are gone: what they have, such as
// a database's memory, is wanted by those that are started next.
func killAll(all []proc.ID) {
	proc.Signal(all, "KILL")
	for end := time.Now().Add(supervise.KillWait); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		if !slices.ContainsFunc(all, proc.ID.Alive) {
			return
		}
	}
}
