package keep

import (
	"bytes"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"slices"
	"syscall"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
)

// Saved is what a keeper leaves for the next one.
type Saved struct {
	Keeper   proc.ID                 `json:"keeper,omitzero"`
	Overview savedOverview           `json:"overview,omitzero"`
	Services map[string]SavedService `json:"services"`
	// Operations are those under way and the latest that ended; nil in a line
	// that says nothing of them.
	Operations []Operation `json:"operations,omitempty"`
}

// savedOverview is what of an overview the next keeper goes on with.
type savedOverview struct {
	Project string        `json:"project"`
	Began   time.Time     `json:"began"`
	Took    time.Duration `json:"took"`
}

func (o Overview) saved() savedOverview { return savedOverview{o.Project, o.Began, o.Took} }

// SavedService is a service with its process.
type SavedService struct {
	ID     proc.ID          `json:"process"`
	Status supervise.Status `json:"status"`
	// Given are digests of the variables that it was started with.
	Given map[string]string `json:"given,omitempty"`
}

// saved returns what of a status the next keeper goes on with: not the steps of the start, facts
// (which hold passwords), what is measured or asked again, and lines, which are in the log.
func saved(s supervise.Status) supervise.Status {
	s.Done, s.Facts, s.Usage, s.Opening, s.Lines = nil, nil, supervise.Usage{}, false, nil
	return s
}

// readState reads what keepers have saved: a JSON value on a line for each
// time that something has changed, with the services that have. A later line
// goes before an earlier one, and one that was not written to its end is passed
// over. It fails if nothing of what is there can be read.
func readState(path string) (Saved, error) {
	s := Saved{Services: map[string]SavedService{}}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	read := false
	for line := range bytes.Lines(b) {
		var more Saved
		if bad := json.Unmarshal(line, &more); bad != nil {
			err = bad
			continue
		}
		read = true
		if more.Keeper.PID != 0 {
			s.Keeper = more.Keeper
		}
		if more.Overview.Project != "" {
			s.Overview = more.Overview
		}
		if more.Operations != nil {
			s.Operations = more.Operations
		}
		maps.Copy(s.Services, more.Services)
	}
	if read {
		return s, nil
	}
	return s, err
}

// ReadState reads what the keeper of a project last saved. Without a keeper
// that is how the services were when the last one ended.
func ReadState(p *project.Project) (Saved, error) { return readState(p.StateFile()) }

// Orphaned reports whether an earlier keeper of the project was lost while services ran, or
// were to run, also those that it could not write down any more.
func Orphaned(p *project.Project) bool {
	s, err := ReadState(p)
	return err == nil && s.orphaned() || slices.ContainsFunc(p.LockedServices(), func(name string) bool { return proc.Locked(p.ServiceLock(name)) })
}

// orphaned is Orphaned as far as the state tells. What ran before the machine was started anew
// is over.
func (s Saved) orphaned() bool {
	if !s.Keeper.SameBoot() {
		return false
	}
	for _, service := range s.Services {
		if st := service.Status.State; service.ID.PID != 0 || st.Running() || st == supervise.Waiting || st == supervise.Preparing {
			return true
		}
	}
	return false
}

// saveSoon has a service's state saved, or with "" that of all.
func (k *Keeper) saveSoon(service string) {
	k.mu.Lock()
	if service == "" {
		k.unsavedAll = true
	} else {
		k.unsaved[service] = true
	}
	k.mu.Unlock()
	k.saveNow()
}

// saveNow has what was marked saved.
func (k *Keeper) saveNow() {
	select {
	case k.save <- struct{}{}:
	default:
	}
}

// saveWhenAsked writes the state after changes, and at the end.
func (k *Keeper) saveWhenAsked() {
	failing := false
	save := func() {
		err := k.saveChanges()
		if err != nil && !failing {
			k.log.Error("the state can't be saved", "why", err)
			k.warn("state", "the state can't be saved, so a new keeper would not find the services: "+err.Error())
		} else if err == nil && failing {
			k.warn("state", "")
		}
		failing = err != nil
	}
	k.saveSoon("")
	for {
		select {
		case <-k.save:
			save()
		case <-k.ctx.Done():
			k.saveSoon("")
			save()
			return
		}
		// Many changes at once are written once, the more the more services
		// there are, and what could not be written is tried again.
		pause := 5*time.Millisecond + time.Duration(len(k.services))*40*time.Microsecond
		if failing {
			pause = time.Second
			k.saveSoon("")
		}
		select {
		case <-k.ctx.Done():
		case <-time.After(pause):
		}
	}
}

// stateLimit is the size from which on a state is written anew, in bytes.
const stateLimit = 1 << 20

// saveChanges adds what has changed to the state. It is written anew at first,
// after a failure, and when it has grown. It is there for a keeper that follows
// while the machine runs, which sees what was written whether it has reached
// the disk or not, so nothing is waited for.
func (k *Keeper) saveChanges() error {
	k.mu.Lock()
	names, all := k.unsaved, k.unsavedAll || k.stateSize > stateLimit
	var operations []Operation
	if k.unsavedOperations {
		operations = k.operations
	}
	k.unsaved, k.unsavedAll, k.unsavedOperations = map[string]bool{}, false, false
	forsaken := k.forsaken
	k.mu.Unlock()
	if forsaken || !all && len(names) == 0 && operations == nil {
		return nil
	}
	if all {
		return k.saveState()
	}
	k.mu.Lock()
	overview := k.overview
	k.mu.Unlock()
	b, err := k.encodeState(Saved{Overview: overview.saved(), Operations: operations}, func(name string) bool { return names[name] })
	if err != nil {
		return err
	}
	f, err := os.OpenFile(k.project.StateFile(), os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	n, err := f.Write(b)
	k.mu.Lock()
	k.stateSize += n
	k.mu.Unlock()
	return errors.Join(err, f.Close())
}

// saveState writes the whole state anew.
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
	state := Saved{Keeper: me, Overview: k.overview.saved(), Operations: k.operations}
	k.mu.Unlock()
	b, err := k.encodeState(state, func(string) bool { return true })
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.stateSize = 0 // what is there is as short as it can be
	k.mu.Unlock()
	return atomicfile.Replace(k.project.StateFile(), b, 0o600)
}

// encodeState makes a line of a state with the services that are wanted.
func (k *Keeper) encodeState(state Saved, wanted func(name string) bool) ([]byte, error) {
	state.Services = map[string]SavedService{}
	for name, s := range k.services {
		if wanted(name) {
			left := s.Left()
			state.Services[name] = SavedService{ID: left.ID, Status: saved(left.Status), Given: left.Given}
		}
	}
	b, err := json.Marshal(state)
	return append(b, '\n'), err
}
