package project

import (
	"fmt"
	"os"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project/drift"
)

// Explained is a variable of a service with what it hides.
type Explained struct {
	wire.Variable
	Service string `json:"service"`
	// Hides are other places that give the same variable a value, which it
	// goes before.
	Hides []Hidden `json:"hides,omitempty"`
}

// Hidden is a value that a variable goes before.
type Hidden struct {
	Where string `json:"where"`          // in words, or a file and line
	Same  bool   `json:"same,omitempty"` // it is the same value
}

// String says what is hidden.
func (h Hidden) String() string {
	if h.Same {
		return h.Where + " (the same value)"
	}
	return h.Where
}

// Explain lists the variables of a service, each with what it hides: in the
// environment of this process, in the env files of its folder, and in the
// declaration without the file for this machine and the profile.
func (p *Project) Explain(s *declare.Service, files []EnvFile) ([]Explained, error) {
	vars, err := p.Variables(s)
	if err != nil {
		return nil, err
	}
	var base *declare.Service
	if p.Profile != "" || p.files.Local != nil {
		plain := p.files
		plain.Local, plain.Profile = nil, ""
		if d, err := plain.Parse(kind.All()); err == nil {
			base = d.Service(s.Name)
		}
	}
	inherits := p.Kind(s).Info().InheritEnv
	out := make([]Explained, len(vars))
	for i, v := range vars {
		e := Explained{Variable: v, Service: s.Name}
		if base != nil {
			if was, ok := base.Env[v.Name]; ok && was.Value != v.Declared {
				e.Hides = append(e.Hides, Hidden{Where: was.At.String()})
			}
		}
		if value, set := os.LookupEnv(v.Name); set && inherits {
			e.Hides = append(e.Hides, Hidden{"the environment of the latest start", value == v.Value})
		}
		for _, f := range files {
			if f.Service != s.Name {
				continue
			}
			for _, d := range f.Drift {
				if d.Name == v.Name && d.Line != 0 {
					e.Hides = append(e.Hides, Hidden{fmt.Sprintf("%s:%d", f.Path, d.Line), d.Result == drift.Same})
				}
			}
		}
		out[i] = e
	}
	return out, nil
}
