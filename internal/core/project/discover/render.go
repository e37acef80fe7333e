package discover

import (
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Render writes the declaration of the services that are on. Owner says which
// service each of its lines is of, "" for none.
func (p *Proposal) Render() (text string, owner []string) {
	var lines []string
	add := func(of string, more ...string) {
		for _, l := range more {
			lines, owner = append(lines, l), append(owner, of)
		}
	}
	add("", "[project]", "name = "+strconv.Quote(p.Name))
	for _, s := range p.Services {
		if s.On {
			add("", "")
			add(s.Name, s.render()...)
		}
	}
	for _, e := range p.Errands {
		if e.With.On {
			add("", "")
			add(e.With.Name, e.render()...)
		}
	}
	return strings.Join(lines, "\n") + "\n", owner
}

func (s *Service) render() []string {
	lines := []string{"[service." + s.Name + "]"}
	if s.Kind != declare.DefaultKind {
		lines = append(lines, "kind = "+strconv.Quote(s.Kind))
	}
	var settings any
	begin := ""
	if k := kind.All().Kind(s.Kind); k != nil {
		settings, begin = k.Settings(), k.Info().Begin
	}
	// What was found for one kind may mean nothing to another that was chosen
	// instead.
	own := slices.DeleteFunc(slices.Clone(s.Lines), func(l string) bool {
		return settings == nil || !declare.HasKey(settings, key(l)) && !declare.HasKey(&declare.Service{}, key(l))
	})
	if begin != "" && !slices.ContainsFunc(own, func(l string) bool { return key(l) == key(begin) }) && !s.refers("proxy") {
		own = append([]string{begin}, own...)
	}
	if s.Version != "" {
		lines = append(lines, "version = "+strconv.Quote(s.Version))
	}
	if len(own) > 0 { // what it runs comes first
		lines = append(lines, own[0])
		own = own[1:]
	}
	switch {
	case s.Port != 0:
		lines = append(lines, fmt.Sprintf("port = %d", s.Port))
	case s.AnyPort:
		lines = append(lines, `port = "any"`)
	}
	lines = append(lines, own...)
	var needs []string
	for _, l := range s.Links {
		switch {
		case !l.Target.On:
		case l.Key == "needs":
			needs = append(needs, l.Target.Name)
		case settings != nil && declare.HasKey(settings, l.Key), declare.HasKey(&declare.Service{}, l.Key):
			lines = append(lines, fmt.Sprintf("%s = %q", l.Key, "${"+l.Target.Name+"}"))
		}
	}
	if len(needs) > 0 {
		lines = append(lines, "needs = "+list(needs))
	}
	var env []string
	for _, v := range s.Env {
		if v.Target.On && !s.inherits(v.Name) {
			env = append(env, fmt.Sprintf("%s = %q", v.Name, v.Text()))
		}
	}
	if len(env) > 0 {
		lines = append(lines, "")
		lines = append(lines, "[service."+s.Name+".env]")
		lines = append(lines, env...)
	}
	return lines
}

func (s *Service) refers(key string) bool {
	return slices.ContainsFunc(s.Links, func(l Link) bool { return l.Key == key && l.Target.On })
}

// inherits reports whether a variable comes from the service whose env this
// one takes over.
func (s *Service) inherits(variable string) bool {
	return slices.ContainsFunc(s.Links, func(l Link) bool { return l.Key == "env_of" && l.Target.On && l.Target.has(variable) })
}

// key returns the key of a line of TOML.
func key(line string) string {
	k, _, _ := strings.Cut(line, "=")
	return strings.TrimSpace(k)
}

// Check reads the declaration that would be written; its problems come back
// as declare.Problems.
func (p *Proposal) Check() error {
	text, _ := p.Render()
	_, err := declare.Parse([]byte(text), p.Dir+"/"+declare.FileName, kind.All())
	return err
}

// Here says what there is for a service on this machine.
type Here struct {
	Version string // of what is installed
	Missing string // what is not installed, "" if all is there
	// Packages are what to install then.
	Packages kind.Packages
}

// Installed looks for what a kind runs.
func Installed(name string) Here {
	k := kind.All().Kind(name)
	if k == nil {
		return Here{}
	}
	found, err := kind.Installed(k)
	var missing *kind.MissingError
	switch {
	case errors.As(err, &missing):
		return Here{Missing: missing.What(), Packages: k.Info().Packages}
	case err != nil:
		return Here{Missing: err.Error()}
	}
	return Here{Version: found.Version}
}

// Here looks for what the service runs: its kind's server, or its own program.
func (s *Service) Here() Here {
	if s.Kind != declare.DefaultKind {
		return Installed(s.Kind)
	}
	for _, l := range s.Lines {
		command, ok := strings.CutPrefix(l, "run = ")
		if !ok {
			continue
		}
		command, _ = strconv.Unquote(command)
		name, _, _ := strings.Cut(command, " ")
		if strings.Contains(name, "/") { // the project's own, which may be made yet
			name = "python3"
			if !strings.Contains(command, "venv/bin/") {
				return Here{}
			}
		}
		if _, err := exec.LookPath(name); err != nil {
			return Here{Missing: name + " is not installed", Packages: kind.PackagesOf(name)}
		}
	}
	return Here{}
}

// Missing returns what the services that are on lack on this machine, each
// once, and the packages to install.
func (p *Proposal) Missing() (what []string, packages []kind.Packages) {
	for _, s := range p.Services {
		if !s.On {
			continue
		}
		if h := s.Here(); h.Missing != "" && !slices.Contains(what, h.Missing) {
			what, packages = append(what, h.Missing), append(packages, h.Packages)
		}
	}
	return what, packages
}

// Kinds returns those that a service may be given.
func Kinds() []string {
	var names []string
	for _, k := range kind.All() {
		names = append(names, k.Info().Name)
	}
	return names
}
