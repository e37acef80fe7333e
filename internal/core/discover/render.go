package discover

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind/catalogue"
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
	return strings.Join(lines, "\n") + "\n", owner
}

func (s *Service) render() []string {
	lines := []string{"[service." + s.Name + "]"}
	if s.Kind != declare.DefaultKind {
		lines = append(lines, "kind = "+strconv.Quote(s.Kind))
	}
	var settings any
	begin := ""
	if k := catalogue.All.Kind(s.Kind); k != nil {
		settings, begin = k.Settings(), k.Info().Begin
	}
	// What was found for one kind may mean nothing to another that was chosen
	// instead.
	own := slices.DeleteFunc(slices.Clone(s.Lines), func(l string) bool {
		return settings == nil || !declare.HasKey(settings, key(l)) && !declare.HasKey(&declare.Service{}, key(l))
	})
	if begin != "" && !slices.ContainsFunc(own, func(l string) bool { return key(l) == key(begin) }) && !s.refers("=proxy") {
		own = append([]string{begin}, own...)
	}
	if s.Version != "" {
		lines = append(lines, "version = "+strconv.Quote(s.Version))
	}
	if len(own) > 0 { // what it runs comes first
		lines = append(lines, own[0])
		own = own[1:]
	}
	if s.Port != 0 {
		lines = append(lines, fmt.Sprintf("port = %d", s.Port))
	}
	lines = append(lines, own...)
	var env []string
	for _, v := range s.Env {
		if !v.Target.On {
			continue
		}
		if name, ok := strings.CutPrefix(v.Name, "="); ok {
			if settings != nil && declare.HasKey(settings, name) {
				lines = append(lines, name+" = "+strconv.Quote(v.Text()))
			}
			continue
		}
		env = append(env, fmt.Sprintf("%s = %q", v.Name, v.Text()))
	}
	if len(env) > 0 {
		lines = append(lines, "")
		lines = append(lines, "[service."+s.Name+".env]")
		lines = append(lines, env...)
	}
	return lines
}

func (s *Service) refers(name string) bool {
	return slices.ContainsFunc(s.Env, func(v Variable) bool { return v.Name == name && v.Target.On })
}

// key is the key of a line of TOML.
func key(line string) string {
	k, _, _ := strings.Cut(line, "=")
	return strings.TrimSpace(k)
}

// Check reads the declaration that would be written; its problems come back
// as declare.Problems.
func (p *Proposal) Check() error {
	text, _ := p.Render()
	_, err := declare.Parse([]byte(text), p.Dir+"/"+declare.FileName, catalogue.All)
	return err
}

// Installed says what is installed for a kind: its version, or what is
// missing.
func Installed(name string) (version, missing string) {
	k := catalogue.All.Kind(name)
	if k == nil {
		return "", ""
	}
	found, err := catalogue.Installed(k)
	if err != nil {
		if how := k.Info().Packages.InWords(); how != "" {
			return "", "not installed here; " + how
		}
		return "", err.Error()
	}
	return found.Version, ""
}

// Kinds are those that a service may be given.
func Kinds() []string {
	var names []string
	for _, k := range catalogue.All {
		names = append(names, k.Info().Name)
	}
	return names
}
