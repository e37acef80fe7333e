package insight

import (
	"slices"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
)

// Impact is what else an operation on a service is about, in the order of a
// start.
type Impact struct {
	Service string `json:"service"`
	// Needs are all that it needs in turn, NeededBy all that need it, and
	// Running those of the latter that run.
	Needs    []string `json:"needs"`
	NeededBy []string `json:"needed_by"`
	Running  []string `json:"running"`
}

// ImpactOf tells what else an operation on a service is about. It fails if no
// service has this name.
func ImpactOf(d *declare.Declaration, service string, services Services) (Impact, error) {
	if err := d.Check(service); err != nil {
		return Impact{}, err
	}
	others := func(names []string) []string {
		return append([]string{}, slices.DeleteFunc(names, func(n string) bool { return n == service })...)
	}
	a := Impact{Service: service, Needs: others(d.Plan.WithNeeds(service)), NeededBy: others(d.Plan.WithDependents(service)), Running: []string{}}
	for _, name := range a.NeededBy {
		if s := services[name].Status().State; s != supervise.Stopped && s != supervise.Failed && s != supervise.Finished {
			a.Running = append(a.Running, name)
		}
	}
	return a, nil
}
