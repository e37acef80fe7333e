package project

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/port"
)

// vault keeps the made-up passwords in a file that processes share.
type vault struct {
	mu     sync.Mutex
	path   string
	ensure func() error      // makes the folder that it is in
	all    map[string]string // as last read
}

func (v *vault) secret(name string) (string, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.all == nil {
		if err := atomicfile.ReadJSON(v.path, &v.all); err != nil {
			return "", err
		}
	}
	if s := v.all[name]; s != "" {
		return s, nil
	}
	if err := v.ensure(); err != nil {
		return "", err
	}
	all, err := atomicfile.UpdateMap(v.path, func(all map[string]string) (bool, error) {
		if all[name] != "" { // another process was quicker
			return false, nil
		}
		all[name] = rand.Text()
		return true, nil
	})
	if err != nil {
		return "", err
	}
	v.all = all
	return all[name], nil
}

// Mask replaces the project's own passwords in a text, as far as they are
// known to this process.
func (p *Project) Mask(text string) string {
	p.vault.mu.Lock()
	defer p.vault.mu.Unlock()
	for _, secret := range p.vault.all {
		if secret != "" && strings.Contains(text, secret) {
			text = strings.ReplaceAll(text, secret, "••••")
		}
	}
	return text
}

// portBook remembers which ports were given to services that declare none, in
// a file that processes share.
type portBook struct {
	mu   sync.Mutex
	path string
	all  map[string]int // as last read; nil before
	// instead are the ports that services have in place of those declared,
	// until everything is stopped; nil before they are read.
	instead map[string]int
}

// load reads the file, unless that was done before. The book must be locked.
func (b *portBook) load() error {
	if b.all != nil {
		return nil
	}
	all := map[string]int{}
	if err := atomicfile.ReadJSON(b.path, &all); err != nil {
		return err
	}
	b.all = all
	return nil
}

// Port returns the port of a service, 0 if it has none: the declared one, or the
// one that it was given before, or the nearest free one to its kind's usual
// port that no project of this user has.
func (p *Project) Port(s *declare.Service) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if p.ports.instead == nil {
		instead := map[string]int{}
		if err := atomicfile.ReadJSON(p.insteadFile(), &instead); err != nil {
			return 0, err
		}
		p.ports.instead = instead
	}
	if n := p.ports.instead[s.Name]; n != 0 {
		return n, nil
	}
	if !s.Listens && s.Port == 0 || s.Port != 0 && p.Copy == "" {
		return s.Port, nil
	}
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	if n := p.ports.all[s.Name]; n != 0 {
		return n, nil
	}
	return p.givePort(s.Name, cmp.Or(s.Port, p.Kind(s).Info().UsualPort), unlessGiven)
}

// UsePort gives a service a port in place of the declared one, until
// everything is stopped.
func (p *Project) UsePort(service string, number int) error {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ensureState(); err != nil {
		return err
	}
	all, err := atomicfile.UpdateMap(p.insteadFile(), func(all map[string]int) (bool, error) {
		all[service] = number
		return true, nil
	})
	if err != nil {
		return err
	}
	p.ports.instead = all
	return nil
}

func (p *Project) insteadFile() string { return filepath.Join(p.state, "run", "ports.json") }

// ReplacePort gives a service without a declared port another one than it has.
func (p *Project) ReplacePort(s *declare.Service) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	return p.givePort(s.Name, p.Kind(s).Info().UsualPort, port.Free)
}

// extraPort returns a port under a name of its own that is free now.
func (p *Project) extraPort(name string, usual int) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	if n := p.ports.all[name]; n != 0 && port.Free(n) {
		return n, nil
	}
	return p.givePort(name, usual, port.Free)
}

// givenPort returns the port that extraPort gave last, 0 if it gave none.
func (p *Project) givenPort(name string) int {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if p.ports.load() != nil {
		return 0
	}
	return p.ports.all[name]
}

// unlessGiven keeps a port that another process has given meanwhile.
func unlessGiven(int) bool { return true }

// givePort chooses and remembers a port, the usual one or the nearest to it. A
// port that is remembered already is kept if it will do. The book must be
// locked.
func (p *Project) givePort(name string, usual int, willDo func(port int) bool) (int, error) {
	if err := p.ensureState(); err != nil {
		return 0, err
	}
	defer p.lockPorts()()
	all, err := atomicfile.UpdateMap(p.ports.path, func(all map[string]int) (bool, error) {
		if n := all[name]; n != 0 && willDo(n) {
			return false, nil
		}
		n, err := p.pick(usual, all)
		if err != nil {
			return false, fmt.Errorf("%s: %w", name, err)
		}
		all[name] = n
		return true, nil
	})
	if err != nil {
		return 0, err
	}
	p.ports.all = all
	return all[name], nil
}

// lockPorts makes sure that no two projects of this user choose the same port
// at the same moment: others wait until this one's choice is written down, where
// they see it.
func (p *Project) lockPorts() (unlock func()) {
	dir := UserDir()
	if dir == "" || enlist(p.Dir) != nil {
		return func() {}
	}
	unlock, err := atomicfile.Lock(filepath.Join(dir, "ports.lock"))
	if err != nil { // a home that can't be written is as good as none
		return func() {}
	}
	return unlock
}

// pick returns the nearest free port that no project has, this one's being given.
func (p *Project) pick(usual int, given map[string]int) (int, error) {
	reserved := map[int]bool{}
	for _, n := range given {
		reserved[n] = true
	}
	for _, other := range p.Services {
		reserved[other.Port] = true
	}
	for _, dir := range Enlisted() {
		state := stateOf(dir)
		copies, _ := filepath.Glob(filepath.Join(state, copiesDir, "*"))
		for _, state := range append(copies, state) {
			theirs := map[string]int{}
			if state != p.state && atomicfile.ReadJSON(filepath.Join(state, "ports.json"), &theirs) == nil {
				for _, n := range theirs {
					reserved[n] = true
				}
			}
		}
	}
	return port.Pick(usual, func(n int) bool { return reserved[n] })
}

// xdg returns a folder of this user's by the XDG Base Directory Specification; ""
// if the user has no home.
func xdg(variable, otherwise string) string {
	if dir := os.Getenv(variable); filepath.IsAbs(dir) { // a relative one is to be ignored
		return filepath.Join(dir, "neighbour")
	}
	home, err := os.UserHomeDir()
	if err != nil { // as in a service of the system, which has no HOME
		me, err := user.Current()
		if err != nil || !filepath.IsAbs(me.HomeDir) {
			return ""
		}
		home = me.HomeDir
	}
	return filepath.Join(home, otherwise, "neighbour")
}

// configDir returns where the user's own kinds are declared.
func configDir() string { return xdg("XDG_CONFIG_HOME", ".config") }

// UserDir returns where Neighbour remembers things of this user (XDG Base
// Directory Specification, XDG_STATE_HOME), "" for a user without a home.
func UserDir() string { return xdg("XDG_STATE_HOME", filepath.Join(".local", "state")) }

// listDir returns where this user's projects are listed: a file each, with the
// project's folder in it. A user without a home has no list.
func listDir() string {
	state := UserDir()
	if state == "" {
		return ""
	}
	return filepath.Join(state, "projects")
}

// enlisted reports whether a project's folder is in the list.
func enlisted(dir string) bool {
	b, err := os.ReadFile(listPath(dir))
	return err == nil && string(b) == dir
}

// listPath is a project's file in the list.
func listPath(dir string) string {
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join(listDir(), hex.EncodeToString(sum[:8]))
}

func enlist(dir string) error {
	list := listDir()
	if list == "" {
		return nil
	}
	path := listPath(dir)
	if b, err := os.ReadFile(path); err == nil && string(b) == dir {
		return nil
	}
	if err := os.MkdirAll(list, 0o700); err != nil {
		return nil // nor has one whose home can't be written
	}
	return atomicfile.Write(path, []byte(dir), 0o600)
}

// Enlisted lists the folders of this user's projects that still exist,
// sorted.
func Enlisted() []string {
	return slices.DeleteFunc(EverEnlisted(), func(dir string) bool {
		return !Present(dir)
	})
}

// EverEnlisted lists the folders of this user's projects, also those that are no more, sorted.
func EverEnlisted() []string {
	list := listDir()
	entries, _ := os.ReadDir(list)
	var dirs []string
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join(list, e.Name()))
		if err == nil && !strings.Contains(e.Name(), ".") && filepath.IsAbs(string(b)) {
			dirs = append(dirs, string(b))
		}
	}
	slices.Sort(dirs)
	return dirs
}

// made is who made a service's data.
type made struct {
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"`
	// ID stands for the data as long as it is not emptied.
	ID string `json:"id,omitempty"`
	// At is when the data began.
	At time.Time `json:"at,omitzero"`
}

func (p *Project) madeFile() string { return filepath.Join(p.state, "made.json") }

// CheckData makes sure that the data of a service, if there is any, can be
// used by its kind and by the version of its program.
func (p *Project) CheckData(in *kind.Instance) error {
	if !p.keepsData(in) {
		return nil
	}
	by, m, err := p.madeBy(in.Service.Name)
	if err != nil || by == nil || m.Kind == "" {
		return err
	}
	if p.empty(in) {
		// Another identity is given when it is made anew.
		return p.ForgetData(in.Service.Name)
	}
	usual := filepath.Join(p.state, "data", in.Service.Name)
	switch older := kind.CompareVersions(minor(in.Program.Version), minor(m.Version)) < 0; {
	case m.Kind != in.Service.Kind:
		return fmt.Errorf("its data in %s was made by a service of kind %s, and now it is of kind %s; move that folder away to begin with empty data, or give the service another name", usual, m.Kind, in.Service.Kind)
	case in.Program.Version != "" && m.Version != "" && older:
		return fmt.Errorf("its data in %s was last used by version %s, and %s is %s, which may not be able to read it; install the newer one, or move that folder away to begin with empty data", usual, m.Version, in.Program.Path, in.Program.Version)
	}
	return nil
}

// empty reports whether a service has no data yet.
func (p *Project) empty(in *kind.Instance) bool {
	if k, ok := p.Kind(in.Service).(kind.Holder); ok {
		return !k.Holds(in)
	}
	entries, err := os.ReadDir(in.Data)
	return err != nil || len(entries) == 0
}

// keepsData reports whether a service's data folder is its kind's to use.
func (p *Project) keepsData(in *kind.Instance) bool {
	info := p.Kind(in.Service).Info()
	return !info.Elsewhere && !info.InheritEnv && !info.NoData
}

// minor returns a version without what doesn't change how data is kept.
func minor(version string) string {
	parts := strings.SplitN(version, ".", 3)
	return strings.Join(parts[:min(2, len(parts))], ".")
}

func (p *Project) madeBy(service string) (map[string]made, made, error) {
	all := map[string]made{}
	err := atomicfile.ReadJSON(p.madeFile(), &all)
	return all, all[service], err
}

// NoteData remembers who is going to use a service's data.
func (p *Project) NoteData(in *kind.Instance) error {
	if !p.keepsData(in) {
		return nil
	}
	_, before, err := p.madeBy(in.Service.Name)
	now := made{in.Service.Kind, in.Program.Version, before.ID, before.At}
	if now.ID == "" && !p.empty(in) {
		now.ID, now.At = newDataID(), time.Now().Round(time.Second)
	}
	if err != nil || before == now {
		return err
	}
	_, err = atomicfile.UpdateMap(p.madeFile(), func(all map[string]made) (bool, error) {
		all[in.Service.Name] = now
		return true, nil
	})
	return err
}
