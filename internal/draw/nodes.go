package draw

import (
	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// Nodes returns the services of a project for a map: with their states, if they
// are known, or else as they are declared.
func Nodes(p *project.Project, current map[string]api.Status, known bool) []Node {
	var out []Node
	for _, step := range p.Plan.Steps() {
		for _, name := range step {
			s, st := p.Service(name), current[name]
			n := Node{Name: name, Kind: s.Kind, Version: st.Version, Port: st.Port, Step: p.Plan.Step(name), Needs: s.Needs, Optional: s.Optional}
			if known {
				n.State = st.State
			}
			out = append(out, n)
		}
	}
	return out
}
