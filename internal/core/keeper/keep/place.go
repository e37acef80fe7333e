package keep

import (
	"context"
	"encoding/json"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// Forsake makes the keeper save nothing more: what it would write is
// another's by now.
func (k *Keeper) Forsake() {
	k.mu.Lock()
	k.forsaken = true
	k.mu.Unlock()
}

// Leave stops everything for a reason that lies in the project's place, and
// tells those who watch.
func (k *Keeper) Leave(why string) {
	k.Forsake()
	k.warn("place", why)
	_, _ = k.Stop(AskedBy(context.Background(), "the project's folder is gone"))
}

// LeaveWord writes into a project's state that its services were stopped, and
// why.
func (k *Keeper) LeaveWord(p *project.Project, why string) error {
	state := Saved{Services: map[string]SavedService{}}
	k.each(func(u *supervise.Service) {
		s := u.Status()
		s.State, s.Reason, s.Since, s.PID = supervise.Stopped, why, time.Now(), 0
		state.Services[s.Name] = SavedService{Status: saved(s)}
	})
	b, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return atomicfile.Write(p.StateFile(), append(b, '\n'), 0o600)
}

// Restore saves what is needed to find the services again, in folders that
// were just made anew, and notes that.
func (k *Keeper) Restore() error {
	k.note("", "deleted", journal.Warn, "the folder "+k.project.StateFolder()+" was deleted while services ran: what they print is shown again after a restart, and data that was in it is lost")
	return k.saveState()
}
