package project

import (
	"maps"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// EnvironmentWith lists the variables that a command gets which is run with a
// service: those that the service gets, and before them, for a
// server, those that lead a command to it: its facts, and what its own clients
// read. With files, the project's env files are searched for what each variable
// hides. It fails if no service has this name.
func (p *Project) EnvironmentWith(service string, files bool) ([]Explained, error) {
	if err := p.Check(service); err != nil {
		return nil, err
	}
	s := p.Service(service)
	var envFiles []EnvFile
	if files {
		envFiles = p.EnvFiles()
	}
	vars, err := p.Explain(s, envFiles)
	if err != nil {
		return nil, err
	}
	leading, err := leadingTo(p, s)
	if err != nil {
		return nil, err
	}
	return append(leading, vars...), nil
}

var notInName = lazyregexp.New(`[^A-Z0-9]+`)

// leadingTo returns the variables that lead to a server; a program has none.
func leadingTo(p *Project, s *declare.Service) ([]Explained, error) {
	k := p.Kind(s)
	if k.Info().InheritEnv {
		return nil, nil
	}
	in, err := p.Instance(s)
	if err != nil {
		return nil, err
	}
	in.Program, _ = k.Find(in) // what is not installed here may still be reached
	if err := p.EnsureInstanceDirs(in); err != nil {
		return nil, err
	}
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	var out []Explained
	add := func(v wire.Variable) { out = append(out, Explained{Variable: v, Service: s.Name}) }
	for _, name := range slices.Sorted(maps.Keys(facts)) {
		variable := notInName.ReplaceAllString(strings.ToUpper(s.Name+"_"+name), "_")
		add(wire.Variable{Name: variable, Value: facts[name].Value, Secret: facts[name].Secret, From: []string{s.Name + "." + name}})
	}
	c, ok := k.(kind.Client)
	if !ok {
		return out, nil
	}
	more, err := c.ClientVariables(in)
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(more)) {
		add(wire.Variable{Name: name, Value: more[name], Because: "the clients of " + k.Info().About + " read it"})
	}
	return out, nil
}
