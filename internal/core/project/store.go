package project

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/port"
)

// WriteFile writes a file so that it is there whole or not at all.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

func writeJSON(path string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return WriteFile(path, append(b, '\n'), 0o600)
}

// readJSON reads a file into v; a file that isn't there leaves v alone.
func readJSON(path string, v any) error {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return fmt.Errorf("%s can't be read: %w; move it away if it is broken", path, err)
	}
	return nil
}

// vault keeps the made-up passwords in a file.
type vault struct {
	mu   sync.Mutex
	path string
	all  map[string]string
}

func (v *vault) secret(name string) (string, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.all == nil {
		v.all = map[string]string{}
		if err := readJSON(v.path, &v.all); err != nil {
			v.all = nil
			return "", err
		}
	}
	if s := v.all[name]; s != "" {
		return s, nil
	}
	s := rand.Text()
	v.all[name] = s
	if err := writeJSON(v.path, v.all); err != nil {
		delete(v.all, name)
		return "", err
	}
	return s, nil
}

// portBook remembers which ports were given to services that declare none.
type portBook struct {
	mu   sync.Mutex
	path string
	all  map[string]int
}

func (b *portBook) load() error {
	if b.all != nil {
		return nil
	}
	b.all = map[string]int{}
	if err := readJSON(b.path, &b.all); err != nil {
		b.all = nil
		return err
	}
	return nil
}

// Port is the port of a service, 0 if it has none: the declared one, or the
// one that it was given before, or the nearest free one to its kind's usual
// port that no project of this user has.
func (p *Project) Port(s *declare.Service) (int, error) {
	if !s.Listens || s.Port != 0 {
		return s.Port, nil
	}
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	if n := p.ports.all[s.Name]; n != 0 {
		return n, nil
	}
	return p.givePort(s.Name, p.Kind(s).Info().UsualPort)
}

// ReplacePort gives a service without a declared port another one than it has.
func (p *Project) ReplacePort(s *declare.Service) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	return p.givePort(s.Name, p.Kind(s).Info().UsualPort)
}

// extraPort is a port under a name of its own that is free now.
func (p *Project) extraPort(name string, usual int) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	if n := p.ports.all[name]; n != 0 && port.Free(n) {
		return n, nil
	}
	return p.givePort(name, usual)
}

// givePort chooses and remembers a port, the usual one or the nearest to it.
// The book must be locked.
func (p *Project) givePort(name string, usual int) (int, error) {
	reserved := map[int]bool{}
	for _, n := range p.ports.all {
		reserved[n] = true
	}
	for _, other := range p.Services {
		reserved[other.Port] = true
	}
	for _, dir := range Enlisted() {
		if dir == p.Dir {
			continue
		}
		theirs := map[string]int{}
		if readJSON(filepath.Join(dir, StateDir, "ports.json"), &theirs) == nil {
			for _, n := range theirs {
				reserved[n] = true
			}
		}
	}
	n, err := port.Pick(usual, func(n int) bool { return reserved[n] })
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	p.ports.all[name] = n
	if err := writeJSON(p.ports.path, p.ports.all); err != nil {
		delete(p.ports.all, name)
		return 0, err
	}
	return n, nil
}

// listDir is where this user's projects are listed: a file each, with the
// project's folder in it.
func listDir() (string, error) {
	state := os.Getenv("XDG_STATE_HOME")
	if state == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "neighbour", "projects"), nil
}

func enlist(dir string) error {
	list, err := listDir()
	if err != nil {
		return nil // a user without a home has no list
	}
	sum := sha256.Sum256([]byte(dir))
	path := filepath.Join(list, hex.EncodeToString(sum[:8]))
	if b, err := os.ReadFile(path); err == nil && string(b) == dir {
		return nil
	}
	if err := os.MkdirAll(list, 0o700); err != nil {
		return nil // nor has one whose home can't be written
	}
	return WriteFile(path, []byte(dir), 0o600)
}

// Enlisted lists the folders of this user's projects that still exist,
// sorted.
func Enlisted() []string {
	list, err := listDir()
	if err != nil {
		return nil
	}
	entries, _ := os.ReadDir(list)
	var dirs []string
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join(list, e.Name()))
		if err != nil || strings.Contains(e.Name(), ".") {
			continue
		}
		if _, err := os.Stat(filepath.Join(string(b), StateDir)); err == nil {
			dirs = append(dirs, string(b))
		}
	}
	slices.Sort(dirs)
	return dirs
}
