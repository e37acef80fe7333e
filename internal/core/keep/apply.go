package keep

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/project"
)

// Effect is what a changed declaration means for a service.
type Effect struct {
	Service string `json:"service"`
	// Does is "start", "stop", "restart" or "keep".
	Does string `json:"does"`
	// Why says which keys have changed, or which fact that it reads.
	Why string `json:"why,omitempty"`
}

// What a changed declaration may do to a service.
const (
	Starts   = "start"
	Stops    = "stop"
	Restarts = "restart"
	Keeps    = "keep"
)

// soft are the keys whose change needs no restart: they are about when and
// how a service is started, watched and stopped, and not about its process.
var soft = []string{"health", "restart", "stop", "log", "optional", "needs", "reload", "writes", "prepare", "migrations", "seed", "once"}

// Effects says what the declaration as it is now means for the services, in
// the order of a start. What is wrong with it comes back as declare.Problems.
func (k *Keeper) Effects() ([]Effect, *project.Project, error) {
	now, err := project.OpenProfile(k.decl.Dir, k.decl.Profile)
	if err != nil {
		return nil, nil, err
	}
	var out []Effect
	kinds := declare.ChangedKinds(k.decl, now.Declaration)
	for _, step := range now.Plan.Steps() {
		for _, name := range step {
			s, before := now.Service(name), k.decl.Service(name)
			e := Effect{Service: name, Does: Starts, Why: "it is new"}
			if before != nil {
				e.Does, e.Why = k.effect(now, before, s, slices.Contains(kinds, s.Kind))
			}
			out = append(out, e)
		}
	}
	for _, s := range k.decl.Services {
		if now.Service(s.Name) == nil {
			out = append(out, Effect{Service: s.Name, Does: Stops, Why: "it is no longer declared"})
		}
	}
	return out, now, nil
}

func (k *Keeper) effect(now *project.Project, before, s *declare.Service, kindChanged bool) (does, why string) {
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
	if facts := k.changedFacts(now, s); len(facts) > 0 {
		return Restarts, "it reads what has changed: " + strings.Join(facts, ", ")
	}
	if len(other) > 0 {
		return Keeps, "changed, and no reason to restart: " + strings.Join(other, ", ")
	}
	return Keeps, ""
}

// changedFacts are the facts that a service refers to and that are others
// now.
func (k *Keeper) changedFacts(now *project.Project, s *declare.Service) []string {
	var out []string
	for _, ref := range s.References() {
		target, fact, _ := strings.Cut(ref, ".")
		if target == s.Name {
			continue
		}
		was, err1 := k.project.Facts(target)
		is, err2 := now.Facts(target)
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

// Apply carries out what the declaration as it is now means for the services
// that run: it stops what goes and what restarts, and says what the keeper
// that follows, which has read it, is to start. What is untouched goes on.
func (k *Keeper) Apply() (effects []Effect, start []string, err error) {
	effects, now, err := k.Effects()
	if err != nil {
		return nil, nil, err
	}
	defer k.oneAtATime()()
	busy := k.Busy()
	var stop []string
	for _, e := range effects {
		running := false
		if u := k.units[e.Service]; u != nil {
			u.mu.Lock()
			running = u.attempt != nil
			u.mu.Unlock()
		}
		switch {
		case e.Does == Starts && busy, e.Does == Restarts && running:
			start = append(start, e.Service)
		}
		if (e.Does == Stops || e.Does == Restarts) && running {
			stop = append(stop, e.Service)
		}
	}
	k.note("", "applied", journal.Info, "the declaration is applied: "+Summary(effects))
	k.log.Info("apply", "stop", strings.Join(stop, " "), "start", strings.Join(start, " "))
	k.stopAll(stop)
	if len(start) > 0 {
		start = now.Plan.WithNeeds(start...)
	}
	return effects, start, nil
}

// Summary says in a few words what effects come to.
func Summary(effects []Effect) string {
	n := map[string]int{}
	for _, e := range effects {
		n[e.Does]++
	}
	var parts []string
	for _, p := range [][3]string{{Restarts, "restarts", "restart"}, {Starts, "starts", "start"}, {Stops, "stops", "stop"}, {Keeps, "goes on as it is", "go on as they are"}} {
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
	if e.Does == Keeps {
		return "goes on"
	}
	return e.Does + "s"
}
