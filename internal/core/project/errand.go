package project

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/atomicfile"
)

// ErrandDir returns the folder with the runs of errands.
func (p *Project) ErrandDir() string { return filepath.Join(p.base, "errands") }

func (p *Project) errandFile() string { return filepath.Join(p.state, "errands.json") }

// doneErrand is what an errand that runs before a start was done for.
type doneErrand struct {
	Files string            `json:"files,omitempty"` // a digest of those of when
	Data  map[string]string `json:"data,omitempty"`  // the identities of the data, by service
	Run   string            `json:"run,omitempty"`   // a digest of the command; "": not known
}

// errandFolder returns the folder that an errand runs in.
func (p *Project) errandFolder(e *declare.Errand) string {
	switch {
	case filepath.IsAbs(e.Dir):
		return e.Dir
	case e.Dir != "":
		return filepath.Join(p.Dir, e.Dir)
	}
	if s := p.Service(e.WithService()); s != nil {
		return p.WorkingDir(s)
	}
	return p.Dir
}

// DueErrand is an errand that is due, and why.
type DueErrand struct {
	*declare.Errand
	Why string
}

// DueBefore returns the errands that go before a service and are due. One of which that can't be
// found out is not among them: the next start tells it.
func (p *Project) DueBefore(service string) []DueErrand {
	var out []DueErrand
	for _, e := range p.Before(service) {
		if due, err := p.ErrandDue(e); err == nil && due.Why != "" {
			out = append(out, DueErrand{e, due.Why})
		}
	}
	return out
}

// ErrandDue finds out whether an errand that runs before a start is due: it has
// not run yet, its command or a file that it depends on has changed since, or the
// data of a service that it needs is another.
func (p *Project) ErrandDue(e *declare.Errand) (Due, error) {
	due := Due{Done: func() error { return nil }}
	now := doneErrand{Data: map[string]string{}, Run: Digest(e.Run.String())}
	if len(e.When) > 0 {
		files, err := p.fingerprint(p.errandFolder(e), "errand."+e.Name, e.When)
		if err != nil {
			return due, err
		}
		now.Files = files
	}
	path := p.errandFile()
	before := map[string]doneErrand{}
	if err := atomicfile.ReadJSON(path, &before); err != nil {
		return due, err
	}
	was, done := before[e.Name]
	var others []string
	for _, name := range e.Needs {
		id, err := p.DataID(name)
		if err != nil {
			return due, err
		}
		if id != "" {
			now.Data[name] = id
		}
		if before := was.Data[name]; before != "" && before != id {
			others = append(others, name)
		}
	}
	switch {
	case !done:
		due.Why = "it has not run yet"
	case was.Run != "" && was.Run != now.Run:
		due.Why = "its command is another"
	case was.Files != now.Files:
		due.Why = "what it depends on has changed: " + values(e.When)
	case len(others) > 0:
		due.Why = "the data of " + strings.Join(others, ", ") + " is another"
	}
	due.Done = func() error {
		_, err := atomicfile.UpdateMap(path, func(all map[string]doneErrand) (bool, error) {
			all[e.Name] = now
			return true, nil
		})
		return err
	}
	return due, nil
}

// newDataID makes up the identity of data.
func newDataID() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// DataID returns what stands for the data of a service as long as it is not
// emptied; "" if it has none.
func (p *Project) DataID(service string) (string, error) {
	_, m, err := p.madeBy(service)
	return m.ID, err
}

// ForgetErrands has the errands that need one of these services run again before
// the next start.
func (p *Project) ForgetErrands(services ...string) error {
	_, err := atomicfile.UpdateMap(p.errandFile(), func(all map[string]doneErrand) (bool, error) {
		changed := false
		for _, e := range p.Errands {
			if _, done := all[e.Name]; done && slices.ContainsFunc(e.Needs, func(n string) bool { return slices.Contains(services, n) }) {
				delete(all, e.Name)
				changed = true
			}
		}
		return changed, nil
	})
	return err
}

// ForgetData notes that a service's data is gone: what was done to it is not done
// to the next.
func (p *Project) ForgetData(services ...string) error {
	_, err := atomicfile.UpdateMap(p.madeFile(), func(all map[string]made) (bool, error) {
		changed := false
		for name := range all {
			if slices.Contains(services, name) {
				delete(all, name)
				changed = true
			}
		}
		return changed, nil
	})
	if err != nil {
		return fmt.Errorf("that data is gone can't be noted: %w", err)
	}
	return nil
}
