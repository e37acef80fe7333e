package project

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind"
)

// PreparationDue says whether a preparation is to run: if its files have
// changed since it last ended well, or if it names none. Done is to be called
// when it ended well.
func (p *Project) PreparationDue(s *declare.Service, prep declare.Preparation) (due bool, done func() error, err error) {
	if len(prep.When) == 0 {
		return true, func() error { return nil }, nil
	}
	now, err := p.fingerprint(s, prep)
	if err != nil {
		return false, nil, err
	}
	key := s.Name + " " + prep.Run.String()
	path := filepath.Join(p.state, "prepared.json")
	p.ports.mu.Lock() // services start at the same time
	defer p.ports.mu.Unlock()
	before := map[string]string{}
	if err := readJSON(path, &before); err != nil {
		return false, nil, err
	}
	return before[key] != now, func() error {
		p.ports.mu.Lock()
		defer p.ports.mu.Unlock()
		all := map[string]string{}
		if err := readJSON(path, &all); err != nil {
			return err
		}
		all[key] = now
		return writeJSON(path, all)
	}, nil
}

// fingerprint changes when a file that a preparation names does. Its patterns
// are seen from the service's own folder.
func (p *Project) fingerprint(s *declare.Service, prep declare.Preparation) (string, error) {
	dir := p.WorkingDir(s)
	sum := sha256.New()
	for _, w := range prep.When {
		matches, err := doublestar.Glob(os.DirFS(dir), filepath.ToSlash(filepath.Clean(w.Value)), doublestar.WithFilesOnly())
		if err != nil {
			return "", fmt.Errorf("prepare: when = %q: %w", w.Value, err)
		}
		fmt.Fprintf(sum, "%s %d\n", w.Value, len(matches))
		for _, m := range matches {
			if err := addFile(sum, filepath.Join(dir, m)); err != nil {
				return "", fmt.Errorf("prepare: when = %q: %w", w.Value, err)
			}
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func addFile(to io.Writer, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	fmt.Fprintf(to, "%s\n", path)
	_, err = io.Copy(to, f)
	return err
}

// LookPath finds the program of a service's own command: in the PATH that the
// service gets, or from its folder if the name has a slash.
func (p *Project) LookPath(s *declare.Service, name string) (string, error) {
	dir := p.WorkingDir(s)
	if strings.Contains(name, "/") {
		if !filepath.IsAbs(name) {
			name = filepath.Join(dir, name)
		}
		return exec.LookPath(name)
	}
	env, err := p.Environment(s)
	if err != nil {
		return "", err
	}
	paths := ""
	for _, v := range env {
		if value, ok := strings.CutPrefix(v, "PATH="); ok {
			paths = value
		}
	}
	if found := kind.InPath(name, paths, dir); len(found) > 0 {
		return found[0], nil
	}
	return "", fmt.Errorf("there is no program %s in PATH: %s", name, paths)
}
