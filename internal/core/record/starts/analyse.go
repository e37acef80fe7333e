package starts

import (
	"cmp"
	"slices"
)

// Analysis is what a start that has ended says of itself.
type Analysis struct {
	// Path is the chain of services that decided how long it took, the first
	// one first: each waited for the one before.
	Path []string `json:"path"`
	// Own is how long each service took from when all that it needs was there,
	// Slack how much longer it could have taken without delaying the whole.
	Own   map[string]float64 `json:"own_ms"`
	Slack map[string]float64 `json:"slack_ms"`
	// AtOnce is how long it would have taken had none waited for another: as
	// long as the slowest.
	AtOnce float64 `json:"at_once_ms"`
	// Processors is the least that it can take with this machine's processors,
	// by the processor time that the services used; 0 if that is not known.
	Processors float64 `json:"processors_ms,omitempty"`
	// Parallelism is how many services were at work at a time, on the average.
	Parallelism float64 `json:"parallelism"`
}

// Analyse finds what decided a start. Cores is how many processors the machine
// has.
func Analyse(s *Start, cores int) Analysis {
	g := newGraph(s)
	a := Analysis{Own: map[string]float64{}, Slack: map[string]float64{}}
	ends, whole := g.ends(g.own)
	last := -1
	for i, v := range g.services {
		if !v.Ran() {
			continue
		}
		a.Own[v.Name] = g.own[i]
		a.AtOnce = max(a.AtOnce, g.own[i])
		a.Processors += v.Processor / float64(max(1, cores))
		a.Parallelism += g.own[i]
		if last < 0 || ends[i] > ends[last] {
			last = i
		}
	}
	if whole > 0 {
		a.Parallelism /= whole
	}
	for i := last; i >= 0; {
		a.Path = append(a.Path, g.services[i].Name)
		before := -1
		for _, n := range g.needs[i] {
			if g.services[n].Ran() && (before < 0 || ends[n] > ends[before]) {
				before = n
			}
		}
		i = before
	}
	slices.Reverse(a.Path)

	// The latest end of each that delays nothing, from the last to the first.
	latest := make([]float64, len(g.services))
	for i := range latest {
		latest[i] = whole
	}
	for i := len(g.services) - 1; i >= 0; i-- {
		if g.services[i].Ran() {
			a.Slack[g.services[i].Name] = max(0, latest[i]-ends[i])
		}
		for _, n := range g.needs[i] {
			latest[n] = min(latest[n], latest[i]-g.own[i])
		}
	}
	return a
}

// graph is the services of a start in an order in which each comes after what
// it needs.
type graph struct {
	services []*Service
	needs    [][]int
	own      []float64
}

func newGraph(s *Start) *graph {
	g := &graph{}
	at := map[string]int{}
	var add func(v *Service)
	add = func(v *Service) {
		if _, ok := at[v.Name]; ok {
			return
		}
		at[v.Name] = -1
		var needs []int
		for _, n := range v.Needs {
			if need, ok := s.Service(n); ok {
				add(need)
				if at[n] >= 0 {
					needs = append(needs, at[n])
				}
			}
		}
		at[v.Name] = len(g.services)
		g.services, g.needs = append(g.services, v), append(g.needs, needs)
	}
	for i := range s.Services {
		add(&s.Services[i])
	}
	for i, v := range g.services {
		from := 0.0
		for _, n := range g.needs[i] {
			from = max(from, g.services[n].End())
		}
		own := 0.0
		if v.Ran() {
			own = max(0, v.End()-from)
		}
		g.own = append(g.own, own)
	}
	return g
}

// ends returns when each service would be ready if it took this long from when
// all that it needs is, and when the last would be.
func (g *graph) ends(own []float64) (ends []float64, whole float64) {
	ends = make([]float64, len(g.services))
	for i := range g.services {
		for _, n := range g.needs[i] {
			ends[i] = max(ends[i], ends[n])
		}
		ends[i] += own[i]
		if g.services[i].Ran() {
			whole = max(whole, ends[i])
		}
	}
	return ends, whole
}

// WhatIf is how long a start would have taken without a part of it.
type WhatIf struct {
	Service string `json:"service"`
	// What is the command that would not run; "" for the service as a whole.
	What string  `json:"what,omitempty"`
	Took float64 `json:"took_ms"`
}

// WhatIfs returns what leaving out each preparation and each service would have
// gained, the most first. What gains nothing is left out, and so is the only
// service of a start.
func WhatIfs(s *Start) []WhatIf {
	g := newGraph(s)
	_, whole := g.ends(g.own)
	var out []WhatIf
	try := func(i int, what string, less float64) {
		own := slices.Clone(g.own)
		own[i] = max(0, own[i]-less)
		if _, took := g.ends(own); took < whole-0.5 {
			out = append(out, WhatIf{g.services[i].Name, what, took})
		}
	}
	ran := 0
	for _, v := range g.services {
		if v.Ran() {
			ran++
		}
	}
	for i, v := range g.services {
		for _, p := range v.Phases {
			if p.Is.Prepares() {
				try(i, p.name(), p.Length(v.End()))
			}
		}
		if ran > 1 {
			try(i, "", g.own[i])
		}
	}
	slices.SortStableFunc(out, func(a, b WhatIf) int { return cmp.Compare(a.Took, b.Took) })
	return out
}
