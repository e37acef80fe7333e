// Package starts tells how a start of services went: what each waited for and
// did, which chain of them decided how long it took, what could be slower or
// faster, and how it compares with earlier starts. All lengths of time are in
// milliseconds since the start began.
package starts

import (
	"slices"
	"time"
)

// Start is one start of several services, or what there is of it so far.
type Start struct {
	ID    int64     `json:"id"`
	Began time.Time `json:"began"`
	// Took is how long it took until every service was ready or had failed; 0
	// while it is under way.
	Took    float64 `json:"took_ms"`
	Result  Result  `json:"result"`
	Profile string  `json:"profile,omitempty"`
	By      string  `json:"by,omitempty"` // who asked for it
	// Cold says that something was made or prepared on the way, as in a first
	// start.
	Cold bool `json:"cold"`
	// Changed are the keys of the declaration that are others than at the start
	// before: "api.run".
	Changed []string `json:"changed,omitempty"`
	// Services are in the order of the plan.
	Services []Service `json:"services"`
}

// Result is how a start ended.
type Result string

// The results.
const (
	UnderWay  Result = "under way"
	Ready     Result = "ready"
	Failed    Result = "failed"
	Cancelled Result = "cancelled" // by a stop, or the end of the keeper
)

// Service is how one service started.
type Service struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"`
	// Needs are those of this start that it waits for.
	Needs    []string `json:"needs,omitempty"`
	Optional bool     `json:"optional,omitempty"`
	Phases   []Phase  `json:"phases"`
	// Result is "" while it is under way.
	Result Result `json:"result,omitempty"`
	Reason string `json:"reason,omitempty"`
	// Processor is the processor time that its process had used when it was
	// ready; 0 if that is not known.
	Processor float64 `json:"processor_ms,omitempty"`
}

// Phase is a part of a service's start.
type Phase struct {
	Is   Kind    `json:"is"`
	From float64 `json:"from_ms"`
	To   float64 `json:"to_ms"` // 0 while it lasts
	// What says what it waits for, which command prepares, what the newest
	// check has answered.
	What string `json:"what,omitempty"`
}

// Kind is what happens in a phase.
type Kind string

// The kinds of phases.
const (
	Waiting   Kind = "waiting" // for what it needs, or for another try
	Preparing Kind = "preparing"
	Migrating Kind = "migrating" // its database
	Seeding   Kind = "seeding"   // fresh data
	Errand    Kind = "running"   // an errand before its start
	Starting  Kind = "starting"
)

// Prepares reports whether it is something that is done before or beside the
// service's own start, and could be left out or made faster on its own.
func (k Kind) Prepares() bool { return k != Waiting && k != Starting }

// Length is how long the phase has lasted, up to now for one that lasts.
func (p Phase) Length(now float64) float64 {
	if p.To == 0 {
		return max(0, now-p.From)
	}
	return p.To - p.From
}

// name says what it is that was done.
func (p Phase) name() string {
	switch p.Is {
	case Migrating:
		return "migrations"
	case Seeding:
		return "seed"
	}
	return p.What
}

// Service returns one of the services; false if the start has none of this name.
func (s *Start) Service(name string) (*Service, bool) {
	i := slices.IndexFunc(s.Services, func(v Service) bool { return v.Name == name })
	if i < 0 {
		return nil, false
	}
	return &s.Services[i], true
}

// Cancel ends a start that is under way, at a time in milliseconds since it
// began: what was not ready by then is cancelled, for a reason.
func (s *Start) Cancel(at float64, reason string) {
	for i := range s.Services {
		v := &s.Services[i]
		if v.Result != "" {
			continue
		}
		v.Result, v.Reason = Cancelled, reason
		if n := len(v.Phases); n > 0 && v.Phases[n-1].To == 0 {
			v.Phases[n-1].To = max(at, v.Phases[n-1].From)
		}
	}
	s.Result, s.Took = Cancelled, at
}

// Now is how far the start is at a time.
func (s *Start) Now(at time.Time) float64 {
	if s.Took > 0 {
		return s.Took
	}
	return millis(at.Sub(s.Began))
}

// End is when the service was ready or had failed; 0 before.
func (s *Service) End() float64 {
	if s.Result == "" || len(s.Phases) == 0 {
		return 0
	}
	return s.Phases[len(s.Phases)-1].To
}

// Ran reports whether the service came to do something, rather than only to
// wait for what never came.
func (s *Service) Ran() bool {
	return slices.ContainsFunc(s.Phases, func(p Phase) bool { return p.Is != Waiting })
}

// Cold reports whether something was made, prepared or migrated.
func (s *Service) Cold() bool {
	return slices.ContainsFunc(s.Phases, func(p Phase) bool { return p.Is.Prepares() })
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
