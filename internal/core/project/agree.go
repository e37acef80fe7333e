package project

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"sync"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Commands lists what the project executes when it is started: "api: node
// server.js", in the order of the services' names; with what other projects execute whose services
// it uses.
func (p *Project) Commands() []string { return p.commands(map[string]bool{p.Dir: true}) }

// commands is Commands but for the projects that were visited.
func (p *Project) commands(visited map[string]bool) []string {
	out, seen := []string{}, map[string]bool{}
	add := func(of string, commands ...string) {
		for _, c := range commands {
			if c != "" && !seen[of+": "+c] {
				seen[of+": "+c] = true
				out = append(out, of+": "+c)
			}
		}
	}
	for _, e := range p.Errands {
		if len(e.Before) > 0 || len(e.On.Events()) > 0 { // the others are asked for by name
			add("errand "+e.Name, e.Run.String())
		}
	}
	for _, s := range p.Services {
		if seed := s.Scripts().Seed; !seed.Run.IsZero() {
			add(s.Name, seed.Run.String())
		}
		for _, prep := range s.Prepare {
			add(s.Name, prep.Run.String())
		}
		if r, ok := s.Settings.(interface{ CommandLine() string }); ok {
			add(s.Name, r.CommandLine())
		}
		if r, ok := s.Settings.(interface{ CommandLines() []string }); ok {
			add(s.Name, r.CommandLines()...)
		}
		if s.Health != nil {
			add(s.Name, s.Health.Run.String())
		}
		if k := p.CustomKind(s.Kind); k != nil {
			add(s.Name, words(k)...)
		}
		if b, ok := s.Settings.(kind.Borrower); ok {
			folder, _ := b.Borrowed()
			if other, err := Glance(p.path(folder)); err == nil && !visited[other.Dir] {
				visited[other.Dir] = true
				for _, c := range other.commands(visited) {
					add(s.Name, other.Name+"'s "+c)
				}
			}
		}
		if path, ok := s.Env["PATH"]; ok {
			add(s.Name, "PATH="+path.Value)
		}
	}
	return out
}

// words are the programs and commands of a declared kind.
func words(k *declare.CustomKind) []string {
	var out []string
	for _, w := range k.Program {
		out = append(out, w.Value)
	}
	for _, c := range k.Prepare {
		out = append(out, c.String())
	}
	out = append(out, k.Run.String())
	for _, name := range slices.Sorted(maps.Keys(k.Data)) {
		out = append(out, k.Data[name].String())
	}
	if len(k.Version.Args) > 0 {
		out = append(out, k.Program[0].Value+" "+list(k.Version.Args))
	}
	if k.Health != nil {
		out = append(out, k.Health.Run.String())
	}
	return out
}

func list(texts []string) string {
	b, _ := json.Marshal(texts) // never fails
	return string(b)
}

// agreement is read once for each Project.
type agreement struct {
	mu    sync.Mutex
	read  bool
	known bool
	all   []string
	// news are the commands that the agreement lacks.
	news []string
}

// record reads what is remembered of the project.
func (p *Project) record() (record, error) {
	id, err := p.id()
	if err != nil {
		return record{}, err
	}
	return readRecord(id)
}

// News returns what would be executed and wasn't when the user last started
// the project; first says that he never did.
func (p *Project) News() (fresh []string, first bool) {
	a := &p.agreement
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.read {
		return a.news, !a.known
	}
	a.read = true
	if r, err := p.record(); err == nil && r.Commands != nil {
		a.known, a.all = true, r.Commands
	}
	agreed := map[string]bool{}
	for _, c := range a.all {
		agreed[c] = true
	}
	for _, c := range p.Commands() {
		if !agreed[c] {
			a.news = append(a.news, c)
		}
	}
	return a.news, !a.known
}

// Agree remembers that the user starts the project, and so wants what it
// executes.
func (p *Project) Agree() error {
	if fresh, first := p.News(); len(fresh) == 0 && !first {
		return nil
	}
	if err := p.ensureState(); err != nil {
		return err
	}
	all := p.Commands()
	p.agreement.mu.Lock()
	p.agreement.read, p.agreement.known, p.agreement.all, p.agreement.news = true, true, all, nil
	p.agreement.mu.Unlock()
	id, err := p.id()
	if err != nil {
		return nil // a user without a home can't be remembered
	}
	r, err := readRecord(id)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	r.Dir, r.Commands = p.Dir, all
	if r.State == "" && !p.within() { // a user's folder for state that is new to the project
		r.State = p.base
	}
	return saveRecord(id, r)
}

// trusted reports whether what the project names may be executed to look at
// it: its user has started it, and nothing has come to it since.
func (p *Project) trusted() bool {
	fresh, first := p.News()
	return !first && len(fresh) == 0
}
