package keep

import (
	"slices"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/journal"
)

// adopt finds the services of an earlier keeper and goes on with them.
func (k *Keeper) adopt() {
	state, err := readState(k.project.StateFile())
	if err != nil {
		k.log.Error("the earlier keeper's state is lost", "why", err)
		k.warn("adopt", "the state of an earlier keeper can't be read: "+err.Error())
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
		left := supervise.Left{ID: saved.ID, Status: saved.Status, Given: saved.Given}
		main, holders := proc.Holders(k.project.ServiceLock(name))
		if found, ok := k.launched(name, main, left); ok {
			left, known = found, true
		}
		if known && left.ID.Alive() {
			now := u.Status()
			err := u.Adopt(left, func(s *supervise.Status) {
				launch.Describe(k.project, k.decl.Service(name), s)
				s.Facts, s.Lines, s.Port = now.Facts, now.Lines, now.Port
				s.Needs, s.NeededBy, s.Step = now.Needs, now.NeededBy, now.Step
			})
			if err == nil {
				k.log.Info("adopted", "service", name, "pid", left.ID.PID)
				if left.Status.State == supervise.Stopping {
					ending = append(ending, name)
				}
				return
			}
			k.log.Error("not adopted", "service", name, "why", err)
		}
		// Without its main process, the rest of a service is of no use.
		if rest := census.Belonging(proc.ID{}, k.project.Mark(name)); len(rest) > 0 {
			k.log.Info("ending what is left of a service", "service", name, "processes", len(rest))
			killAll(rest)
		}
		endAll(holders)
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
	for _, name := range k.project.LockedServices() {
		if k.services[name] != nil {
			continue
		}
		if _, rest := proc.Holders(k.project.ServiceLock(name)); len(rest) > 0 {
			k.log.Info("ending a service that is not declared any more", "service", name, "processes", len(rest))
			k.background.Go(func() { endAll(rest) })
		}
	}
	if len(ending) > 0 {
		go func() {
			op, err := k.ops.begin(k.ctx, Stop, "", ending)
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

// launched returns what an earlier keeper left of a service whose process it was killed too
// soon after to save it, by what the service's lock says; main is the one that may be it.
func (k *Keeper) launched(name string, main proc.ID, saved supervise.Left) (supervise.Left, bool) {
	if main.PID == 0 || main == saved.ID {
		return saved, false
	}
	note := launch.Launched{At: time.Now()}
	if err := proc.ReadNote(k.project.ServiceLock(name), &note); err != nil {
		k.log.Warn("the lock of a service says nothing", "service", name, "why", err)
	}
	if note.ID.PID != 0 && note.ID != main {
		return saved, false // it has ended, and main is something that it left
	}
	s := saved.Status
	s.Name, s.Kind = name, k.decl.Service(name).Kind
	s.State, s.Reason, s.Remarks, s.Since = supervise.Starting, "", nil, note.At
	s.PID, s.Version, s.Checks = main.PID, note.Version, supervise.Checks{}
	if s.Began.IsZero() {
		s.Began = note.At
	}
	return supervise.Left{ID: main, Status: s, Given: note.Given}, true
}

// endAll asks processes to end, and kills those that don't.
func endAll(all []proc.ID) {
	proc.Signal(all, "TERM")
	for end := time.Now().Add(declare.DefaultGrace); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if !slices.ContainsFunc(all, proc.ID.Alive) {
			return
		}
	}
	killAll(all)
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
