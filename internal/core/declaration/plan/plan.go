// Package plan orders services by what they need: the steps in which they
// may start at the same time, what a service needs in turn, what needs it,
// and the cycles that make an order impossible.
package plan

import (
	"fmt"
	"slices"
	"strings"
)

// Graph maps a service's name to the names of the services that it needs.
// Every name that is needed must itself be a key.
type Graph map[string][]string

// Plan is the order of a graph without cycles.
type Plan struct {
	needs  map[string][]string
	needed map[string][]string
	step   map[string]int
	steps  [][]string
}

// CycleError says that services need each other in a circle.
type CycleError struct {
	// Cycle names the services in the order in which each needs the next;
	// the last name repeats the first.
	Cycle []string
}

func (e *CycleError) Error() string {
	return fmt.Sprintf("services need each other in a circle: %s", strings.Join(e.Cycle, " needs "))
}

// New plans a graph. It fails with a *CycleError if there is a cycle, and
// with another error if a name is needed that is not in the graph.
func New(g Graph) (*Plan, error) {
	for _, name := range sortedKeys(g) {
		for _, need := range g[name] {
			if _, ok := g[need]; !ok {
				return nil, fmt.Errorf("%s needs %s, which is not declared", name, need)
			}
		}
	}
	if c := findCycle(g); c != nil {
		return nil, &CycleError{Cycle: c}
	}
	p := &Plan{needs: map[string][]string{}, needed: map[string][]string{}, step: map[string]int{}}
	for name, needs := range g {
		p.needs[name] = unique(needs)
		for _, need := range p.needs[name] {
			p.needed[need] = append(p.needed[need], name)
		}
	}
	for name := range p.needed {
		slices.Sort(p.needed[name])
	}
	for name := range g {
		p.place(name)
	}
	p.steps = make([][]string, 0, len(g))
	for _, name := range sortedKeys(g) {
		s := p.step[name]
		for len(p.steps) < s {
			p.steps = append(p.steps, nil)
		}
		p.steps[s-1] = append(p.steps[s-1], name)
	}
	return p, nil
}

// place computes a service's step: one more than the latest step of its needs.
func (p *Plan) place(name string) int {
	if s, ok := p.step[name]; ok {
		return s
	}
	s := 1
	for _, need := range p.needs[name] {
		s = max(s, p.place(need)+1)
	}
	p.step[name] = s
	return s
}

// Steps lists the services by step, the first step first, sorted by name.
func (p *Plan) Steps() [][]string { return p.steps }

// Step returns the step of a service, counted from 1; 0 if it is not in the plan.
func (p *Plan) Step(name string) int { return p.step[name] }

// Needs lists what a service needs directly, sorted.
func (p *Plan) Needs(name string) []string { return p.needs[name] }

// NeededBy lists what needs a service directly, sorted.
func (p *Plan) NeededBy(name string) []string { return p.needed[name] }

// WithNeeds lists the named services and everything they need in turn, in an
// order in which each comes after what it needs.
func (p *Plan) WithNeeds(names ...string) []string { return p.ordered(reach(p.needs, names)) }

// WithDependents lists the named services and everything that needs them in
// turn, in the order of the steps.
func (p *Plan) WithDependents(names ...string) []string { return p.ordered(reach(p.needed, names)) }

func (p *Plan) ordered(set map[string]bool) []string {
	var out []string
	for _, step := range p.steps {
		for _, name := range step {
			if set[name] {
				out = append(out, name)
			}
		}
	}
	return out
}

func reach(edges map[string][]string, from []string) map[string]bool {
	seen := map[string]bool{}
	var walk func(string)
	walk = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		for _, next := range edges[name] {
			walk(next)
		}
	}
	for _, name := range from {
		walk(name)
	}
	return seen
}

// findCycle returns one cycle, its first name repeated at the end, or nil.
func findCycle(g Graph) []string {
	const (
		entered = 1
		left    = 2
	)
	mark := map[string]int{}
	var path []string
	var walk func(string) []string
	walk = func(name string) []string {
		mark[name] = entered
		path = append(path, name)
		for _, need := range unique(g[name]) {
			switch mark[need] {
			case entered:
				cycle := slices.Clone(path[slices.Index(path, need):])
				return append(cycle, need)
			case 0:
				if c := walk(need); c != nil {
					return c
				}
			}
		}
		path = path[:len(path)-1]
		mark[name] = left
		return nil
	}
	for _, name := range sortedKeys(g) {
		if mark[name] == 0 {
			if c := walk(name); c != nil {
				return c
			}
		}
	}
	return nil
}

func unique(names []string) []string {
	out := slices.Clone(names)
	slices.Sort(out)
	return slices.Compact(out)
}

func sortedKeys(g Graph) []string {
	names := make([]string, 0, len(g))
	for name := range g {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
