package starts

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/machine/words"
)

// Report is all that there is to say of a start.
type Report struct {
	Start    Start      `json:"start"`
	Now      float64    `json:"now_ms"` // how far it is, or how long it took
	Analysis Analysis   `json:"analysis"`
	Usual    Comparison `json:"usual"`
	WhatIfs  []WhatIf   `json:"what_if"`
	// Summary says in a sentence or two how it went, and what decided it.
	Summary string `json:"summary"`
}

// NewReport makes the report of a start, beside earlier ones.
func NewReport(s *Start, earlier []*Start, at time.Time) Report {
	r := Report{Start: *s, Now: s.Now(at), Usual: Comparison{Services: map[string]Usual{}}, WhatIfs: []WhatIf{}}
	r.Analysis = Analyse(s, runtime.NumCPU())
	if s.Result != UnderWay {
		r.Usual = Compare(s, earlier)
		r.WhatIfs = append(r.WhatIfs, WhatIfs(s)...)
	}
	r.Summary = r.summary()
	return r
}

// Clone returns a copy that shares nothing that changes.
func (s *Start) Clone() *Start {
	c := *s
	c.Services = slices.Clone(s.Services)
	for i := range c.Services {
		c.Services[i].Phases = slices.Clone(c.Services[i].Phases)
	}
	return &c
}

func (r Report) summary() string {
	s := &r.Start
	warmth := "warm"
	if s.Cold {
		warmth = "cold"
	}
	if s.Result == UnderWay {
		return r.UnderWay()
	}
	text := words.Millis(s.Took) + ", " + warmth
	switch s.Result {
	case Failed:
		text += ": " + r.failure()
	case Cancelled:
		text += ": it was cancelled"
	default:
		if u := r.Usual.Whole; u.Of >= leastOf {
			text += ": " + howUsual(s.Took, u) + fmt.Sprintf(" (median %s of %d)", words.Millis(u.Median), u.Of)
		}
	}
	text += "."
	if slow := r.Usual.Slower; len(slow) > 0 && s.Result == Ready {
		text += fmt.Sprintf(" Slower than usual: %s %s.", slow[0], r.Usual.Services[slow[0]].InWords(r.Analysis.Own[slow[0]]))
	}
	if best := r.Decides(); best != "" && s.Result == Ready {
		text += " " + best + "."
	}
	if s.Result == Ready && len(r.Analysis.Own) > 1 {
		text += " All at once: " + words.Millis(r.Analysis.AtOnce) + "."
	}
	return text
}

// failure says what failed, or why nothing began.
func (r Report) failure() string {
	if names := r.with(Failed); len(names) > 0 {
		return "it failed: " + strings.Join(names, ", ")
	}
	var waited []string
	for _, v := range r.Start.Services {
		if v.Result == Failed && !v.Optional {
			waited = append(waited, v.Name+" waited "+v.Reason)
		}
	}
	return "nothing began: " + strings.Join(waited, "; ")
}

func howUsual(took float64, u Usual) string {
	switch {
	case clearly(took, u, u.Slower):
		return fmt.Sprintf("slower than %d of %d", u.Slower, u.Of)
	case clearly(took, u, u.Of-u.Slower):
		return fmt.Sprintf("faster than %d of %d", u.Of-u.Slower, u.Of)
	}
	return "as usual"
}

// Decides says which service decides most how long the start took: what it would
// have been without it. It is "" where there is none.
func (r Report) Decides() string {
	if len(r.WhatIfs) == 0 || len(r.Analysis.Own) < 2 {
		return ""
	}
	best := r.WhatIfs[0]
	without := best.Service + " decides it: without it"
	for _, w := range r.WhatIfs {
		// What a preparation takes can be avoided sooner than a service.
		if w.What != "" && w.Took <= best.Took+0.1*r.Start.Took {
			best, without = w, fmt.Sprintf("%s decides it: without %s", w.Service, words.Short(w.What))
			break
		}
	}
	return without + " " + words.Millis(best.Took)
}

func (r Report) with(result Result) []string {
	var out []string
	for _, v := range r.Start.Services {
		if v.Result == result && v.Ran() {
			out = append(out, v.Name)
		}
	}
	return out
}

// UnderWay says how far a start is, and what is at work.
func (r Report) UnderWay() string {
	ready, busy := 0, []string(nil)
	for _, v := range r.Start.Services {
		switch n := len(v.Phases); {
		case v.Result == Ready:
			ready++
		case v.Result == "" && n > 0 && v.Phases[n-1].Is != Waiting:
			p := v.Phases[n-1]
			busy = append(busy, fmt.Sprintf("%s is %s for %s", v.Name, p.Is, words.Millis(p.Length(r.Now))))
		}
	}
	text := fmt.Sprintf("Under way for %s: %d of %d ready.", words.Millis(r.Now), ready, len(r.Start.Services))
	if len(busy) > 3 {
		busy = append(busy[:3], fmt.Sprintf("%d more", len(busy)-3))
	}
	if len(busy) > 0 {
		text += " " + strings.Join(busy, ", ") + "."
	}
	return text
}
