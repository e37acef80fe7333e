package project

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/deps"
)

// chosen are the runtimes of services, for a while: looking for them reads many
// folders.
type chosen struct {
	mu  sync.Mutex
	all map[string]choice
}

type choice struct {
	at       time.Time
	runtimes []kind.Runtime
}

// chosenFor is how long a choice holds.
const chosenFor = 5 * time.Second

// Runtimes returns what a service runs on, as it is chosen among the versions that
// are installed.
func (p *Project) Runtimes(s *declare.Service) []kind.Runtime {
	k, ok := p.Kind(s).(kind.Runner)
	if !ok {
		return nil
	}
	p.chosen.mu.Lock()
	defer p.chosen.mu.Unlock()
	if c, known := p.chosen.all[s.Name]; known && time.Since(c.at) < chosenFor {
		return c.runtimes
	}
	in := &kind.Instance{Service: s, Root: p.Dir, Untrusted: !p.trusted(), Env: map[string]string{}}
	wiring := p.Wiring()
	if text, own := s.Env["PATH"]; own {
		if path, err := wiring.Expand(text.Value); err == nil {
			in.Env["PATH"] = path
		}
	}
	runtimes := k.Runtimes(in)
	if p.chosen.all == nil {
		p.chosen.all = map[string]choice{}
	}
	p.chosen.all[s.Name] = choice{time.Now(), runtimes}
	return runtimes
}

// bins are the folders where the programs of a service's packages are, those nearest to its own
// folder first.
func (p *Project) bins(s *declare.Service) []string {
	if !p.Kind(s).Info().InheritEnv {
		return nil
	}
	var out []string
	for dir := p.WorkingDir(s); ; dir = filepath.Dir(dir) {
		rel, err := filepath.Rel(p.Dir, dir)
		if err != nil || !filepath.IsLocal(rel) {
			return out
		}
		out = append(out, deps.Bins(dir)...)
	}
}

// withRuntimes puts the programs of a service's packages first in its PATH, and then what it runs
// on.
func (p *Project) withRuntimes(s *declare.Service, vars []wire.Variable) []wire.Variable {
	path := os.Getenv("PATH")
	at := slices.IndexFunc(vars, func(v wire.Variable) bool { return v.Name == "PATH" })
	if at >= 0 {
		path = vars[at].Value
	}
	dirs := p.bins(s)
	var why []string
	for _, dir := range dirs {
		rel, _ := filepath.Rel(p.Dir, dir)
		why = append(why, rel+" first, where programs of its packages are")
	}
	for _, r := range p.Runtimes(s) {
		if found := kind.InPath(r.Program, path, p.WorkingDir(s)); len(found) > 0 && found[0] == r.Path {
			continue // it is first as it is
		}
		dir := filepath.Dir(r.Path)
		// A folder that is in PATH as it is has other programs, too, which are not
		// meant; and php8.2 is to be php.
		if filepath.Base(r.Path) != r.Program || slices.Contains(filepath.SplitList(path), dir) {
			var err error
			if dir, err = p.alias(s, r); err != nil {
				continue
			}
		}
		if !slices.Contains(dirs, dir) {
			dirs = append(dirs, dir)
		}
		why = append(why, fmt.Sprintf("%s %s first, which %s asks for", r.Name, r.Version, r.For))
	}
	if len(dirs) == 0 {
		return vars
	}
	v := wire.Variable{Name: "PATH", Value: strings.Join(append(dirs, path), string(os.PathListSeparator)), Because: strings.Join(why, "; ")}
	if at >= 0 {
		vars[at] = v
		return vars
	}
	vars = append(vars, v)
	slices.SortFunc(vars, func(a, b wire.Variable) int { return strings.Compare(a.Name, b.Name) })
	return vars
}

// alias makes a folder in which a program that is called otherwise goes by its
// usual name.
func (p *Project) alias(s *declare.Service, r kind.Runtime) (string, error) {
	dir := filepath.Join(p.state, "run", s.Name, "path")
	link := filepath.Join(dir, r.Program)
	if target, err := os.Readlink(link); err == nil && target == r.Path {
		return dir, nil
	}
	if err := p.EnsureDirs(); err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	_ = os.Remove(link)
	return dir, os.Symlink(r.Path, link)
}
