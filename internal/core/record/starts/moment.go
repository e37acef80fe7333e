package starts

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/machine/words"
)

// Moment is what the services of a start did at one time of it.
type Moment struct {
	At    float64 // in milliseconds since the start began
	Doing []Doing // those that waited or worked, in the order of the plan
	Ready []string
	// Failed are those that had failed or were cancelled by then.
	Failed []string
}

// Doing is what one service did at a moment.
type Doing struct {
	Service string
	Phase
}

// At returns what the services did at a time, in milliseconds since the start
// began. Phases that last are taken to last until now.
func (s *Start) At(ms, now float64) Moment {
	m := Moment{At: ms}
	for i := range s.Services {
		one := &s.Services[i]
		if end := one.End(); end > 0 && ms >= end {
			if one.Result == Ready {
				m.Ready = append(m.Ready, one.Name)
			} else {
				m.Failed = append(m.Failed, one.Name)
			}
			continue
		}
		for _, p := range one.Phases {
			if p.From <= ms && ms < p.From+p.Length(now) || p.To == 0 && ms >= p.From {
				m.Doing = append(m.Doing, Doing{one.Name, p})
				break
			}
		}
	}
	return m
}

// Next returns the nearest time after ms at which a phase begins or ends, or
// with a negative by the nearest one before it; ms itself if there is none.
func (s *Start) Next(ms float64, by int) float64 {
	var all []float64
	for i := range s.Services {
		for _, p := range s.Services[i].Phases {
			all = append(all, p.From, p.To)
		}
	}
	slices.Sort(all)
	if by < 0 {
		slices.Reverse(all)
	}
	for _, at := range all {
		if by < 0 && at < ms || by >= 0 && at > ms {
			return at
		}
	}
	return ms
}

// InWords says it in one line, what is done before what waits.
func (m Moment) InWords() string {
	var parts, waiting []string
	for _, d := range m.Doing {
		if d.Is == Waiting {
			waiting = append(waiting, d.Service)
			continue
		}
		text := d.Service + " " + string(d.Is)
		if d.Is.Prepares() && d.What != "" {
			text += " (" + words.Short(d.What) + ")"
		}
		parts = append(parts, text)
	}
	if len(waiting) > 0 {
		parts = append(parts, words.Join(waiting)+" waiting")
	}
	if len(m.Failed) > 0 {
		parts = append(parts, words.Join(m.Failed)+" failed")
	}
	if n := len(m.Ready); n > 0 {
		parts = append(parts, fmt.Sprintf("%d ready", n))
	}
	if len(parts) == 0 {
		parts = []string{"nothing"}
	}
	return "at " + fmt.Sprintf("%.3f s", m.At/1000) + ": " + strings.Join(parts, ", ")
}
