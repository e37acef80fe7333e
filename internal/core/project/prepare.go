package project

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/deps"
	"neighbour/internal/core/machine/input"
)

// Due is why a preparation is to run, and what to do when it has.
type Due struct {
	// Why is a reason in words, "" if the preparation need not run.
	Why string
	// Done is to be called when it ended well. Never nil.
	Done func() error
}

// PreparationDue finds out whether a preparation is to run: what it makes is
// gone, its files have changed since it last ended well, or it names neither,
// and so runs before each start. Services that prepare the same way in the
// same folder share what is remembered.
func (p *Project) PreparationDue(s *declare.Service, prep declare.Preparation) (Due, error) {
	before, err := p.prepared()
	if err != nil {
		return Due{}, err
	}
	due := Due{Done: func() error { return nil }}
	if len(prep.When) == 0 && len(prep.Makes) == 0 {
		due.Why = "it runs before each start"
		return due, nil
	}
	dir := p.PreparationDir(s, prep)
	for _, w := range prep.Makes {
		_, matches, err := p.matches(w.Value, dir)
		if err != nil {
			return due, fmt.Errorf("prepare: makes = %q: %w", w.Value, err)
		}
		if len(matches) == 0 {
			due.Why = w.Value + ", which it makes, isn't there"
		}
	}
	if len(prep.When) == 0 {
		return due, nil
	}
	now, err := p.fingerprint(dir, "prepare", prep.When)
	if err != nil {
		return due, err
	}
	key := p.PreparationKey(s, prep)
	switch {
	case due.Why != "":
	case before[key] == "" && deps.Installed(dir, prep.Run.String()): // by hand, before
	case before[key] == "":
		due.Why = "it has not run yet"
	case before[key] != now:
		due.Why = "what it depends on has changed: " + values(prep.When)
	}
	due.Done = func() error {
		all, err := atomicfile.UpdateMap(p.preparedFile(), func(all map[string]string) (bool, error) {
			all[key] = now
			return true, nil
		})
		p.prep.mu.Lock()
		defer p.prep.mu.Unlock()
		p.prep.at, p.prep.all = time.Time{}, all
		return err
	}
	return due, nil
}

// matches returns what a pattern means, and the folder that it is seen from: the project's, for
// all patterns of a declaration. What is found in the folder of a command alone is meant by a
// declaration from when patterns were seen from there.
func (p *Project) matches(pattern, folder string, options ...doublestar.GlobOption) (dir string, found []string, err error) {
	found, err = glob(p.Dir, pattern, options...)
	if err != nil || len(found) > 0 || folder == p.Dir {
		return p.Dir, found, err
	}
	if old, err := glob(folder, pattern, options...); err == nil && len(old) > 0 {
		return folder, old, nil
	}
	return p.Dir, nil, nil
}

// Stray is a pattern that means nothing, or perhaps another thing than was meant.
type Stray struct {
	Pattern string
	// Instead is how what it may mean is written, "" if it matches nothing anywhere. Here says
	// that it matches something as it is.
	Instead string
	Here    bool
}

// Strays returns those of the patterns of a command in a folder that match no file, or are
// written as if they were seen from there.
func (p *Project) Strays(folder string, when []declare.Word) []Stray {
	var out []Stray
	for _, w := range when {
		here, err := glob(p.Dir, w.Value)
		if err != nil {
			continue
		}
		s := Stray{Pattern: w.Value, Here: len(here) > 0}
		if at, err := filepath.Rel(p.Dir, folder); err == nil && at != "." {
			if there, err := glob(folder, w.Value); err == nil && len(there) > 0 {
				s.Instead = path.Join(filepath.ToSlash(at), filepath.ToSlash(w.Value))
			}
		}
		if !s.Here || s.Instead != "" {
			out = append(out, s)
		}
	}
	return out
}

// StraysOf returns those of a preparation.
func (p *Project) StraysOf(s *declare.Service, prep declare.Preparation) []Stray {
	return p.Strays(p.PreparationDir(s, prep), prep.When)
}

// StraysOfErrand returns those of an errand.
func (p *Project) StraysOfErrand(e *declare.Errand) []Stray {
	return p.Strays(p.errandFolder(e), e.When)
}

// prepared is what has been prepared, read again when its file is another.
type prepared struct {
	mu  sync.Mutex
	at  time.Time // of the file
	all map[string]string
}

func (p *Project) preparedFile() string { return filepath.Join(p.base, "prepared.json") }

func (p *Project) prepared() (map[string]string, error) {
	p.prep.mu.Lock()
	defer p.prep.mu.Unlock()
	info, err := os.Stat(p.preparedFile())
	if err == nil && p.prep.all != nil && info.ModTime().Equal(p.prep.at) {
		return p.prep.all, nil
	}
	all := map[string]string{}
	if err := atomicfile.ReadJSON(p.preparedFile(), &all); err != nil {
		return nil, err
	}
	p.prep.all, p.prep.at = all, time.Time{}
	if err == nil {
		p.prep.at = info.ModTime()
	}
	return all, nil
}

// glob returns what a pattern finds, seen from a folder. A name without any sign
// of a pattern is only looked up.
func glob(dir, pattern string, options ...doublestar.GlobOption) ([]string, error) {
	pattern = filepath.ToSlash(filepath.Clean(pattern))
	if !strings.ContainsAny(pattern, "*?[{\\") {
		info, err := os.Stat(filepath.Join(dir, pattern))
		if err != nil || info.IsDir() && len(options) > 0 { // files only
			return nil, nil
		}
		return []string{pattern}, nil
	}
	return doublestar.Glob(os.DirFS(dir), pattern, options...)
}

// PreparationDir returns the folder in which a preparation of a service runs.
func (p *Project) PreparationDir(s *declare.Service, prep declare.Preparation) string {
	switch dir := prep.Dir.Value; {
	case dir == "":
		return p.WorkingDir(s)
	case filepath.IsAbs(dir):
		return dir
	default:
		return filepath.Join(p.Dir, dir)
	}
}

// PreparationKey returns a key that preparations share which do the same: those
// with one command in one folder.
func (p *Project) PreparationKey(s *declare.Service, prep declare.Preparation) string {
	dir := p.PreparationDir(s, prep)
	if rel, err := filepath.Rel(p.Dir, dir); err == nil && filepath.IsLocal(rel) {
		dir = rel
	}
	return dir + ": " + prep.Run.String()
}

func values(list []declare.Word) string {
	var out []string
	for _, w := range list {
		out = append(out, w.Value)
	}
	return strings.Join(out, ", ")
}

// fingerprint changes when a file does that one of the patterns names, which are
// seen from a folder. What says whose they are in an error.
func (p *Project) fingerprint(folder, what string, when []declare.Word) (string, error) {
	sum := sha256.New()
	for _, w := range when {
		dir, matches, err := p.matches(w.Value, folder, doublestar.WithFilesOnly())
		if err != nil {
			return "", fmt.Errorf("%s: when = %q: %w", what, w.Value, err)
		}
		fmt.Fprintf(sum, "%s %d\n", w.Value, len(matches))
		for _, m := range matches {
			if err := addFile(sum, filepath.Join(dir, m)); err != nil {
				return "", fmt.Errorf("%s: when = %q: %w", what, w.Value, err)
			}
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func addFile(to io.Writer, path string) error {
	f, err := input.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	fmt.Fprintf(to, "%s\n", path)
	_, err = io.Copy(to, f)
	return err
}

func (p *Project) timesFile() string { return filepath.Join(p.base, "times.json") }

// UsualTime returns how long something that is done before starts took the last
// time that it ended well, in milliseconds; 0 if that is not known.
func (p *Project) UsualTime(key string) float64 {
	all := map[string]float64{}
	_ = atomicfile.ReadJSON(p.timesFile(), &all) // it only makes a bar
	return all[key]
}

// NoteTime remembers how long something took, in milliseconds.
func (p *Project) NoteTime(key string, took float64) error {
	_, err := atomicfile.UpdateMap(p.timesFile(), func(all map[string]float64) (bool, error) {
		all[key] = took
		return true, nil
	})
	return err
}

// PreparationCommand returns a preparation of a service as it is run: references resolved, with
// the service's environment.
func (p *Project) PreparationCommand(s *declare.Service, prep declare.Preparation) (Command, error) {
	return p.CommandOf(s, prep.Run, p.PreparationDir(s, prep))
}

// CommandOf returns a command in a folder with the environment of a service.
func (p *Project) CommandOf(s *declare.Service, run declare.Command, dir string) (Command, error) {
	c := Command{Dir: dir}
	vars, err := p.Variables(s)
	if err != nil {
		return c, err
	}
	for _, v := range vars {
		c.Variables = append(c.Variables, Explained{Variable: v})
	}
	c.Argv, err = p.Wiring().Argv(run)
	return c, err
}
