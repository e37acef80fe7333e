// Package insight answers questions about a project's services: how they are
// wired, what an operation on one is about, what a changed declaration means.
// It changes nothing.
package insight

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
)

// Effect is what a changed declaration means for a service.
type Effect struct {
	Service string `json:"service"`
	// Does is "start", "stop", "restart", "keep" for what goes on as it is, or
	// "rest" for what doesn't run and isn't started either.
	Does string `json:"does"`
	New  bool   `json:"new,omitempty"` // it was not declared before
	// Why says which keys have changed, or which fact that it reads.
	Why string `json:"why,omitempty"`
	// Refused says why a service that runs could not start again, so that it
	// is not stopped.
	Refused string `json:"refused,omitempty"`
}

// What a changed declaration may do to a service.
const (
	Starts   = "start"
	Stops    = "stop"
	Restarts = "restart"
	Keeps    = "keep"
	Rests    = "rest"
)

// soft are the keys whose change needs no restart: they are about when and
// how a service is started, watched and stopped, and not about its process.
var soft = []string{"health", "restart", "stop", "log", "optional", "needs", "reload", "writes", "prepare", "migrations", "seed", "once"}

// Services are those of a project by name, as they are now.
type Services map[string]*supervise.Service

// changes compares what the services run as with what is declared now.
type changes struct {
	before, now *project.Project
	services    Services
	begins      map[string]bool // those that start or restart
}

// Effects returns what a changed declaration means for the services, in the
// order of a start: before is what they run as.
func Effects(ctx context.Context, before, now *project.Project, services Services) []Effect {
	c := changes{before, now, services, map[string]bool{}}
	var out []Effect
	kinds := declare.ChangedKinds(before.Declaration, now.Declaration)
	used := c.used()
	for _, step := range now.Plan.Steps() {
		for _, name := range step {
			s, was := now.Service(name), before.Service(name)
			e := Effect{Service: name, Does: Starts, New: was == nil, Why: "it is new"}
			switch {
			case was == nil && !used:
				e.Does = Rests
			case was != nil:
				e.Does, e.Why = c.declared(was, s, slices.Contains(kinds, s.Kind))
				e = c.asItIs(ctx, s, e)
			}
			c.begins[name] = e.Does == Starts || e.Does == Restarts
			out = append(out, e)
		}
	}
	for _, s := range before.Services {
		if now.Service(s.Name) == nil {
			out = append(out, Effect{Service: s.Name, Does: Stops, Why: "it is no longer declared"})
		}
	}
	c.refuse(ctx, out)
	return out
}

// used reports whether anything was started that has not been stopped since.
func (c changes) used() bool {
	for _, s := range c.services {
		if s.Status().State != supervise.Stopped {
			return true
		}
	}
	return false
}

// asItIs returns the effect of a change on a service as it is now: one that runs may
// be restarted, one that failed is tried again if something has changed for
// it, and one that is stopped stays so.
func (c changes) asItIs(ctx context.Context, s *declare.Service, e Effect) Effect {
	if c.services[s.Name].Wanted() {
		return e
	}
	st := c.services[s.Name].Status()
	changed := e.Does == Restarts || e.Why != ""
	reason := strings.TrimPrefix(strings.TrimPrefix(e.Why, "changed, and no reason to restart: "), "changed: ")
	begun := slices.DeleteFunc(slices.Clone(s.Needs), func(n string) bool { return !c.begins[n] })
	errands := declare.ChangedErrands(c.before.Declaration, c.now.Declaration, s.Name)
	switch {
	case st.State == supervise.Finished && e.Does == Restarts:
		return Effect{Service: s.Name, Does: Starts, Why: "it runs again, since it has changed: " + reason}
	case st.State == supervise.Finished:
		return Effect{Service: s.Name, Does: Keeps}
	case st.State == supervise.Failed && changed:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and has changed: " + reason}
	case st.State == supervise.Failed && len(errands) > 0:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and what runs before it has changed: " + strings.Join(errands, ", ")}
	case st.State == supervise.Failed && len(begun) > 0:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and needs what starts now: " + strings.Join(begun, ", ")}
	case st.State == supervise.Failed && st.Early && len(check.Stopping(check.Service(ctx, c.now, s, false))) == 0:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and nothing is found any more that stops it"}
	case st.State == supervise.Failed:
		return Effect{Service: s.Name, Does: Rests, Why: "it failed, and nothing has changed for it; neighbour start " + s.Name + " tries it again: " + st.Reason}
	case changed:
		return Effect{Service: s.Name, Does: Rests, Why: "it is stopped; its next start uses what has changed: " + reason}
	}
	return Effect{Service: s.Name, Does: Rests}
}

// refuse notes which services that run could not start again as they are
// declared now.
func (c changes) refuse(ctx context.Context, effects []Effect) {
	var all sync.WaitGroup
	for i, e := range effects {
		if e.Does != Restarts {
			continue
		}
		all.Go(func() {
			if stops := check.Stopping(check.Service(ctx, c.now, c.now.Service(e.Service), false)); len(stops) > 0 {
				effects[i].Refused = stops[0].What
				if stops[0].Remedy != "" {
					effects[i].Refused += "; " + stops[0].Remedy
				}
			}
		})
	}
	all.Wait()
}

// declared returns what the change of a service's keys means for one that runs.
func (c changes) declared(before, s *declare.Service, kindChanged bool) (does, why string) {
	var hard, other []string
	for _, key := range declare.Changed(before, s) {
		top, _, _ := strings.Cut(key, ".")
		if slices.Contains(soft, top) {
			other = append(other, key)
		} else {
			hard = append(hard, key)
		}
	}
	switch {
	case kindChanged:
		return Restarts, "its kind " + s.Kind + " has changed"
	case len(hard) > 0:
		return Restarts, "changed: " + strings.Join(hard, ", ")
	}
	if facts := c.changedFacts(s); len(facts) > 0 {
		return Restarts, "it reads what has changed: " + strings.Join(facts, ", ")
	}
	if len(other) > 0 {
		return Keeps, "changed, and no reason to restart: " + strings.Join(other, ", ")
	}
	return Keeps, ""
}

// changedFacts returns the facts that a service refers to and that are others
// now.
func (c changes) changedFacts(s *declare.Service) []string {
	var out []string
	for _, ref := range s.References() {
		target, fact, _ := strings.Cut(ref, ".")
		if target == s.Name {
			continue
		}
		was, err1 := c.before.Facts(target)
		is, err2 := c.now.Facts(target)
		if err1 != nil || err2 != nil {
			continue // told where it matters
		}
		if fact == "" { // the service as a whole is named
			if was["port"] != is["port"] || was["host"] != is["host"] {
				out = append(out, target+".port")
			}
		} else if was[fact] != is[fact] {
			out = append(out, ref)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Summary says in a few words what effects come to.
func Summary(effects []Effect) string {
	n := map[string]int{}
	for _, e := range effects {
		n[e.Does]++
	}
	var parts []string
	for _, p := range [][3]string{{Restarts, "restarts", "restart"}, {Starts, "starts", "start"}, {Stops, "stops", "stop"}, {Keeps, "goes on as it is", "go on as they are"}, {Rests, "stays as it is", "stay as they are"}} {
		switch c := n[p[0]]; c {
		case 0:
		case 1:
			parts = append(parts, "1 "+p[1])
		default:
			parts = append(parts, fmt.Sprintf("%d %s", c, p[2]))
		}
	}
	return strings.Join(parts, ", ")
}

// InWords says what happens to the service: "restarts".
func (e Effect) InWords() string {
	switch e.Does {
	case Keeps:
		return "goes on"
	case Rests:
		return "stays"
	}
	return e.Does + "s"
}
