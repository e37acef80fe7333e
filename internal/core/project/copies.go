package project

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
)

// copiesDir is the folder, in a project's own, with its fresh copies: a folder each, which has
// what the project's own has for the project.
const copiesDir = "copies"

// Home returns the folder that stands for the project, or the path that stands for a copy of it:
// other projects and copies have another. Nothing need be there for a copy.
func (p *Project) Home() string {
	if p.Copy != "" {
		return copyHome(p.Dir, p.Copy)
	}
	return p.Dir
}

// copyHome returns the path that stands for a copy of the project in a folder.
func copyHome(dir, copy string) string { return filepath.Join(dir, StateDir, copiesDir, copy) }

// Mark returns the mark of the processes of a service.
func (p *Project) Mark(service string) string { return proc.Mark(p.Home(), service) }

// home takes the folder that stands for a copy apart; of another the copy is "".
func home(dir string) (project, copy string) {
	at := filepath.Dir(dir)
	if filepath.Base(at) == copiesDir && filepath.Base(filepath.Dir(at)) == StateDir {
		return filepath.Dir(filepath.Dir(at)), filepath.Base(dir)
	}
	return dir, ""
}

// CopyDir returns the folder that stands for a copy of the project in a folder. It fails for one
// that isn't there.
func CopyDir(dir, name string) (string, error) {
	path, _, err := locate(dir)
	if err != nil {
		return "", err
	}
	if err := snapshot.CheckName(name); err != nil {
		return "", fmt.Errorf("%q can't be the name of a copy", name)
	}
	var names []string
	for _, home := range At(filepath.Dir(path)).Copies() {
		if filepath.Base(home) == name {
			return home, nil
		}
		names = append(names, filepath.Base(home))
	}
	if len(names) == 0 {
		return "", fmt.Errorf("there is no copy %q, nor any other; neighbour run --fresh --keep ERRAND leaves one", name)
	}
	return "", fmt.Errorf("there is no copy %q; there are: %s", name, strings.Join(names, ", "))
}

// copyOwner is who has made a copy.
type copyOwner struct {
	Process proc.ID `json:"process"`
	Number  int     `json:"number"`
	// Kept says that it is to stay when that process has ended.
	Kept bool `json:"kept,omitempty"`
}

func saveOwner(dir string, o copyOwner) error {
	b, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return atomicfile.Write(ownerFile(dir), b, 0o600)
}

func ownerFile(dir string) string { return filepath.Join(dir, "copy.json") }

// MakeCopy makes a fresh copy of the project, of which nothing runs yet and which holds no data.
// Number is its number among those that are made at once, from 1. It is this process's: when that has ended, Abandoned lists it.
func (p *Project) MakeCopy(name string, number int) (*Project, error) {
	if p.Copy != "" {
		return nil, fmt.Errorf("%s is a copy itself; copies are made of the project: leave --copy out", p.Copy)
	}
	if err := snapshot.CheckName(name); err != nil {
		return nil, fmt.Errorf("%q can't be the name of a copy", name)
	}
	if err := p.EnsureDirs(); err != nil {
		return nil, err
	}
	me, err := proc.Identify(os.Getpid())
	if err != nil {
		return nil, err
	}
	all := filepath.Join(p.state, copiesDir)
	if err := os.MkdirAll(all, 0o700); err != nil {
		return nil, err
	}
	fresh, err := os.MkdirTemp(all, ".new-")
	if err != nil {
		return nil, err
	}
	defer tree.Remove(fresh)
	if err := saveOwner(fresh, copyOwner{Process: me, Number: number}); err != nil {
		return nil, err
	}
	to := filepath.Join(all, name)
	if err := os.Rename(fresh, to); err != nil {
		if _, there := os.Stat(to); there == nil {
			return nil, fmt.Errorf("there is a copy %s already; neighbour --copy %s stop ends it", name, name)
		}
		return nil, err
	}
	return OpenProfile(copyHome(p.Dir, name), p.Profile)
}

// KeepCopy has the copy stay when this process has ended.
func (p *Project) KeepCopy() error {
	me, err := proc.Identify(os.Getpid())
	if err != nil {
		return err
	}
	return saveOwner(p.state, copyOwner{me, p.number, true})
}

// Kept reports whether the project is a copy that stays until it is stopped.
func (p *Project) Kept() bool {
	var o copyOwner
	return p.Copy != "" && atomicfile.ReadJSON(ownerFile(p.state), &o) == nil && o.Kept
}

// Forsaken reports whether who has made the copy has ended, and it is not to stay.
func (p *Project) Forsaken() bool {
	var o copyOwner
	return atomicfile.ReadJSON(ownerFile(p.state), &o) == nil && o.Process.PID != 0 && !o.Kept && !o.Process.Alive()
}

// Abandoned lists the homes of the copies that nobody has any more: those who made them have
// ended, and they are not to stay.
func (p *Project) Abandoned() []string {
	return slices.DeleteFunc(p.Copies(), func(home string) bool {
		var o copyOwner
		err := atomicfile.ReadJSON(ownerFile(filepath.Join(p.base, copiesDir, filepath.Base(home))), &o)
		return err != nil || o.Kept || o.Process.Alive()
	})
}

// RemoveCopy deletes a copy with all that it holds. Nothing of it may run.
func (p *Project) RemoveCopy() error {
	if p.Copy == "" {
		return errors.New("only a copy can be removed")
	}
	for _, s := range p.Services {
		in, err := p.bare(s)
		if err == nil && in.Account != nil {
			if err := tree.Remove(filepath.Dir(filepath.Dir(in.Data))); err != nil {
				return err
			}
		}
		_ = tree.Remove(p.shortRunDir(s.Name))
	}
	_ = tree.Remove(p.shortRunDir("keeper"))
	// At once, so that what is interrupted is no copy any more.
	aside, err := os.MkdirTemp(filepath.Join(p.base, copiesDir), ".old-")
	if err != nil {
		return err
	}
	if err := os.Rename(p.state, filepath.Join(aside, "copy")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return tree.Remove(aside)
}

// Moved lists the services whose declared port a copy has not, with the port that it has: "api 4178
// for 4177".
func (p *Project) Moved() []string {
	var out []string
	for _, s := range p.Services {
		if n, err := p.Port(s); p.Copy != "" && err == nil && s.Port != 0 && n != s.Port {
			out = append(out, fmt.Sprintf("%s %d for %d", s.Name, n, s.Port))
		}
	}
	return slices.Sorted(slices.Values(out))
}
