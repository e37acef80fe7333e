package draw

import (
	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
)

// Nodes returns services for a map: in this order, with their states if any of
// them was started, or else as they are declared.
func Nodes(order []string, current map[string]api.Status) []Node {
	started := false
	for _, st := range current {
		started = started || st.State != supervise.Stopped
	}
	var out []Node
	for _, name := range order {
		st := current[name]
		n := Node{Name: name, Kind: st.Kind, Version: st.Version, Port: st.Port, Step: st.Step, Needs: st.Needs}
		if started {
			n.State = st.Shown()
		}
		out = append(out, n)
	}
	return out
}
