package keep

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"time"

	"neighbour/internal/core/atomicfile"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/project"
)

// Saved is what a keeper leaves for the next one.
type Saved struct {
	Keeper   proc.ID                 `json:"keeper"`
	Overview Overview                `json:"overview"`
	Services map[string]SavedService `json:"services"`
}

// SavedService is a service with its process.
type SavedService struct {
	ID     proc.ID `json:"process"`
	Status Status  `json:"status"`
	// Given are digests of the variables that it was started with.
	Given map[string]string `json:"given,omitempty"`
}

func readState(path string) (Saved, error) {
	var s Saved
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	err = json.Unmarshal(b, &s)
	return s, err
}

// ReadState reads what the keeper of a project last saved. Without a keeper
// that is how the services were when the last one ended.
func ReadState(p *project.Project) (Saved, error) { return readState(p.StateFile()) }

// Orphaned says whether an earlier keeper was lost while services ran, or were
// to run. What ran before the machine was started anew is over.
func (s Saved) Orphaned() bool {
	if !s.Keeper.SameBoot() {
		return false
	}
	for _, service := range s.Services {
		if st := service.Status.State; service.ID.PID != 0 || st.Running() || st == Waiting || st == Preparing {
			return true
		}
	}
	return false
}

func (k *Keeper) saveSoon() {
	select {
	case k.save <- struct{}{}:
	default:
	}
}

// saveWhenAsked writes the state after changes, and at the end.
func (k *Keeper) saveWhenAsked() {
	failing := false
	save := func() {
		err := k.saveState()
		if err != nil && !failing {
			k.log.Error("the state can't be saved", "why", err)
			k.warn("the state can't be saved, so a new keeper would not find the services: " + err.Error())
		} else if err == nil && failing {
			k.warn("")
		}
		failing = err != nil
	}
	for {
		select {
		case <-k.save:
			save()
		case <-k.ctx.Done():
			save()
			return
		}
		// Many changes at once are written once, and what could not be
		// written is tried again.
		pause := 5 * time.Millisecond
		if failing {
			pause = time.Second
			k.saveSoon()
		}
		select {
		case <-k.ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (k *Keeper) saveState() error {
	me, err := proc.Identify(os.Getpid())
	if err != nil {
		return err
	}
	k.mu.Lock()
	if k.forsaken {
		k.mu.Unlock()
		return nil
	}
	state := Saved{Keeper: me, Overview: k.overview, Services: map[string]SavedService{}}
	k.mu.Unlock()
	state.Overview.Warning, state.Overview.Changed, state.Overview.Mistake = "", false, ""
	k.each(func(u *unit) {
		u.mu.Lock()
		s := SavedService{ID: u.id, Status: u.status}
		u.mu.Unlock()
		s.Given = u.driver.given()
		// Facts hold passwords, and lines are in the log.
		s.Status.Facts, s.Status.Lines = nil, nil
		state.Services[u.svc.Name] = s
	})
	b, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return atomicfile.Write(k.project.StateFile(), b, 0o600)
}
