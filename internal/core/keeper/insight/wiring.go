package insight

import (
	"cmp"
	"slices"

	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/project"
)

// Wiring is which service gets what from which, the ports, and how the env
// files compare.
type Wiring struct {
	// Services are in the order of a start.
	Services  []string          `json:"services"`
	Variables []Wired           `json:"variables"`
	Ports     []PortUse         `json:"ports"`
	Files     []project.EnvFile `json:"files"`
}

// Wired is a variable of a service.
type Wired struct {
	project.Explained
	// Stale says that its source has changed since the service was started: a
	// restart of the service brings the new value.
	Stale bool `json:"stale,omitempty"`
}

// PortUse is a port of the project.
type PortUse struct {
	Port    int    `json:"port"`
	Service string `json:"service"`
	// Declared says that the declaration has it, and it wasn't given.
	Declared bool         `json:"declared,omitempty"`
	Holder   *port.Holder `json:"holder,omitempty"` // who listens there now
	// Whose says in words whose process that is; Conflict, that it isn't the
	// service's own.
	Whose    string `json:"whose,omitempty"`
	Conflict bool   `json:"conflict,omitempty"`
}

// WiringOf tells how a project is wired. A service whose values can't be
// resolved has no variables; the checks say why.
func WiringOf(p *project.Project, services Services) (Wiring, error) {
	w := Wiring{Files: p.EnvFiles()}
	var numbers []int
	for _, name := range slices.Concat(p.Plan.Steps()...) {
		s := p.Service(name)
		w.Services = append(w.Services, name)
		vars, err := p.Explain(s, w.Files)
		if err != nil {
			continue
		}
		var given map[string]string // nothing runs without its service
		if sv := services[name]; sv != nil {
			given = sv.Given()
		}
		for _, v := range vars {
			if v.Because == project.TrustsGate { // which every program gets alike
				continue
			}
			was, launched := given[v.Name]
			w.Variables = append(w.Variables, Wired{v, launched && was != project.Digest(v.Value)})
		}
		if n, err := p.Port(s); err == nil && n != 0 {
			w.Ports = append(w.Ports, PortUse{Port: n, Service: name, Declared: s.Port == n})
			numbers = append(numbers, n)
		}
	}
	if len(numbers) == 0 {
		return w, nil
	}
	holders, err := port.Holders(numbers...)
	if err != nil {
		return w, err
	}
	for i := range w.Ports {
		use := &w.Ports[i]
		for _, h := range holders {
			if h.Port != use.Port || use.Holder != nil {
				continue
			}
			owner := p.OwnerOf(h.PID)
			use.Holder, use.Whose = &h, p.InWords(owner)
			use.Conflict = owner != (project.Owner{Dir: p.Home(), Service: use.Service})
			if !use.Conflict {
				use.Whose = "its own"
			}
		}
	}
	slices.SortStableFunc(w.Ports, func(a, b PortUse) int {
		if a.Conflict != b.Conflict { // what is in the way comes first
			if a.Conflict {
				return -1
			}
			return 1
		}
		return cmp.Compare(a.Port, b.Port)
	})
	return w, nil
}
