package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"sync"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
)

// Change is a change of the declaration: of a service, or in which services
// there are.
type Change struct {
	Service string `json:"service"`
	// Add adds the service, Remove removes it.
	Add    *NewService `json:"add,omitempty"`
	Remove bool        `json:"remove,omitempty"`
	// Port and Version are what the service's keys are set to; nil: as they
	// are, and 0 or "" removes the key.
	Port    *int    `json:"port,omitempty"`
	Version *string `json:"version,omitempty"`
	// Preparation is what prepare is set to, an entry of it, for a service that has none.
	Preparation string `json:"preparation,omitempty"`
	// Local writes to the file for this machine instead.
	Local bool `json:"local,omitempty"`
	// Outside makes the service one that is only checked, at this address.
	Outside string `json:"outside,omitempty"`
}

// File returns the name of the file that is changed.
func (c Change) File() string {
	if c.Local {
		return declare.LocalFileName
	}
	return declare.FileName
}

// NewService is a service to add.
type NewService struct {
	Kind string `json:"kind"`
	// Line is a line of TOML that it has beside its kind; may be empty.
	Line string `json:"line,omitempty"`
}

// Edit changes the declaration's file and leaves the rest of it as it is. A
// change that would make it wrong is refused with declare.Problems.
func (p *Project) Edit(c Change) error {
	for range mostEdits {
		if err := p.edit(c); !errors.Is(err, errEdited) {
			return err
		}
	}
	return fmt.Errorf("%s is changed again and again; nothing was written", c.File())
}

// errEdited says that a file was changed while a change of it was made.
var errEdited = errors.New("the file was changed meanwhile")

// mostEdits is how often a change is made anew because of that.
const mostEdits = 10

func (p *Project) edit(c Change) error {
	files, err := declare.ReadFiles(p.File, configDir(), p.Profile)
	if err != nil {
		return err
	}
	path, src := p.File, &files.Main
	was := files.Main
	if c.Local {
		path, src = filepath.Join(p.Dir, declare.LocalFileName), &files.Local
		was = files.Local
	}
	if *src, err = c.apply(*src); err != nil {
		return err
	}
	d, err := files.Parse(kind.All())
	if err != nil {
		return err
	}
	if s := d.Service(c.Service); s != nil && c.Port != nil && s.Port != *c.Port {
		return fmt.Errorf("%s or the profile says port = %d, whatever %s says; change it there", declare.LocalFileName, s.Port, declare.FileName)
	}
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	// What an editor saves meanwhile is not written over.
	swapped, err := atomicfile.Swap(path, *src, was, mode)
	if err == nil && !swapped {
		return errEdited
	}
	return err
}

func (c Change) apply(src []byte) ([]byte, error) {
	if c.Remove {
		return declare.RemoveService(src, c.Service)
	}
	if c.Add != nil {
		var lines []string
		if c.Add.Kind != declare.DefaultKind {
			lines = append(lines, "kind = "+strconv.Quote(c.Add.Kind))
		}
		if c.Add.Line != "" {
			lines = append(lines, c.Add.Line)
		}
		src = declare.AddService(src, c.Service, lines...)
	}
	var err error
	if c.Local && !declare.HasService(src, c.Service) {
		src = declare.AddService(src, c.Service)
	}
	if c.Outside != "" {
		if src, err = declare.SetKey(src, c.Service, "kind", `"outside"`); err != nil {
			return nil, err
		}
		return declare.SetKey(src, c.Service, "health", fmt.Sprintf("{ tcp = %q }", c.Outside))
	}
	if c.Preparation != "" {
		return declare.SetKey(src, c.Service, "prepare", "["+c.Preparation+"]")
	}
	if c.Version != nil {
		if src, err = set(src, c.Service, "version", strconv.Quote(*c.Version), *c.Version == ""); err != nil {
			return nil, err
		}
	}
	if c.Port != nil {
		return set(src, c.Service, "port", strconv.Itoa(*c.Port), *c.Port == 0)
	}
	return src, nil
}

func set(src []byte, service, key, value string, none bool) ([]byte, error) {
	if none {
		return declare.UnsetKey(src, service, key)
	}
	return declare.SetKey(src, service, key, value)
}

// Available is a kind that a service may be of.
type Available struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Begin     string `json:"begin,omitempty"` // a line that it can't do without
	Listens   bool   `json:"listens"`
	Versioned bool   `json:"versioned"` // its services may have a version
	UsualPort int    `json:"usual_port"`
	// Installed is the newest version that is, "" if none is and something
	// must be, which Missing then says.
	Installed string `json:"installed,omitempty"`
	Missing   string `json:"missing,omitempty"`
}

// AvailableKinds lists the kinds that a service of the project may be of, the
// catalogue's and its own, in the catalogue's order.
func (p *Project) AvailableKinds() []Available {
	all := kind.All()
	for _, k := range p.Kinds {
		all = append(all, kind.Declared(k))
	}
	return Kinds(all)
}

// Kinds tells about the kinds of a list, and looks for their programs.
func Kinds(all []kind.Kind) []Available {
	out := make([]Available, len(all))
	var asked sync.WaitGroup
	for i, k := range all {
		asked.Go(func() {
			info := k.Info()
			found, err := kind.Installed(k)
			out[i] = Available{Name: info.Name, About: info.About, Begin: info.Begin, Listens: info.Listens, UsualPort: info.UsualPort,
				Versioned: declare.HasKey(k.Settings(), "version"), Installed: found.Version}
			var missing *kind.MissingError
			switch {
			case errors.As(err, &missing):
				out[i].Missing = "not installed here; " + info.Packages.InWords()
			case err != nil:
				out[i].Missing = err.Error()
			}
		})
	}
	asked.Wait()
	return out
}
