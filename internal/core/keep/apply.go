package keep

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"neighbour/internal/core/check"
	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/project"
)

// Effect is what a changed declaration means for a service.
type Effect struct {
	Service string `json:"service"`
	// Does is "start", "stop", "restart", "keep" for what goes on as it is, or
	// "rest" for what doesn't run and isn't started either.
	Does string `json:"does"`
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

// Effects returns what the declaration as it is now means for the services, in
// the order of a start. What is wrong with it comes back as declare.Problems.
func (k *Keeper) Effects(ctx context.Context) ([]Effect, *project.Project, error) {
	now, err := project.OpenProfile(k.decl.Dir, k.decl.Profile)
	if err != nil {
		return nil, nil, err
	}
	var out []Effect
	begins := map[string]bool{} // those that start or restart
	kinds := declare.ChangedKinds(k.decl, now.Declaration)
	used := k.used()
	for _, step := range now.Plan.Steps() {
		for _, name := range step {
			s, before := now.Service(name), k.decl.Service(name)
			e := Effect{Service: name, Does: Starts, Why: "it is new"}
			switch {
			case before == nil && !used:
				e.Does = Rests
			case before != nil:
				e.Does, e.Why = k.effect(now, before, s, slices.Contains(kinds, s.Kind))
				e = k.now(ctx, now, s, e, begins)
			}
			begins[name] = e.Does == Starts || e.Does == Restarts
			out = append(out, e)
		}
	}
	for _, s := range k.decl.Services {
		if now.Service(s.Name) == nil {
			out = append(out, Effect{Service: s.Name, Does: Stops, Why: "it is no longer declared"})
		}
	}
	k.refuse(ctx, now, out)
	return out, now, nil
}

// used reports whether anything was started that has not been stopped since.
func (k *Keeper) used() bool {
	for _, u := range k.units {
		if u.snapshot().State != Stopped {
			return true
		}
	}
	return false
}

// now returns the effect of a change on a service as it is now: one that runs may
// be restarted, one that failed is tried again if something has changed for
// it, and one that is stopped stays so.
func (k *Keeper) now(ctx context.Context, now *project.Project, s *declare.Service, e Effect, begins map[string]bool) Effect {
	u := k.units[s.Name]
	u.mu.Lock()
	active, st := u.attempt != nil, u.status
	u.mu.Unlock()
	if active {
		return e
	}
	changed := e.Does == Restarts || e.Why != ""
	reason := strings.TrimPrefix(strings.TrimPrefix(e.Why, "changed, and no reason to restart: "), "changed: ")
	begun := slices.DeleteFunc(slices.Clone(s.Needs), func(n string) bool { return !begins[n] })
	switch {
	case st.State == Finished && e.Does == Restarts:
		return Effect{Service: s.Name, Does: Starts, Why: "it runs again, since it has changed: " + reason}
	case st.State == Finished:
		return Effect{Service: s.Name, Does: Keeps}
	case st.State == Failed && changed:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and has changed: " + reason}
	case st.State == Failed && len(begun) > 0:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and needs what starts now: " + strings.Join(begun, ", ")}
	case st.State == Failed && st.Early && len(check.Stopping(check.Service(ctx, now, s, false))) == 0:
		return Effect{Service: s.Name, Does: Starts, Why: "it had failed, and nothing is found any more that stops it"}
	case st.State == Failed:
		return Effect{Service: s.Name, Does: Rests, Why: "it failed, and nothing has changed for it; neighbour start " + s.Name + " tries it again: " + st.Reason}
	case changed:
		return Effect{Service: s.Name, Does: Rests, Why: "it is stopped; its next start uses what has changed: " + reason}
	}
	return Effect{Service: s.Name, Does: Rests}
}

// refuse notes which services that run could not start again as they are
// declared now.
func (k *Keeper) refuse(ctx context.Context, now *project.Project, effects []Effect) {
	var all sync.WaitGroup
	for i, e := range effects {
		if e.Does != Restarts {
			continue
		}
		all.Go(func() {
			if stops := check.Stopping(check.Service(ctx, now, now.Service(e.Service), false)); len(stops) > 0 {
				effects[i].Refused = stops[0].What
				if stops[0].Remedy != "" {
					effects[i].Refused += "; " + stops[0].Remedy
				}
			}
		})
	}
	all.Wait()
}

// RefusedError says that a changed declaration was not applied, because
// services that run could not start again.
type RefusedError struct{ Effects []Effect }

func (e *RefusedError) Error() string {
	var lines []string
	for _, f := range e.Effects {
		if f.Refused != "" {
			lines = append(lines, fmt.Sprintf("%s runs, and could not start as it is declared now: %s", f.Service, f.Refused))
		}
	}
	return "nothing was changed: " + strings.Join(lines, "\n")
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

// changedFacts returns the facts that a service refers to and that are others
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

// Apply carries out what the declaration as it is now means for the services:
// it stops what goes and what restarts, and returns what the keeper that
// follows, which has read it, is to start. What is untouched goes on. If a
// service that runs could not start again, nothing is done, and a
// *RefusedError comes back.
func (k *Keeper) Apply(ctx context.Context) (effects []Effect, start []string, err error) {
	op, err := k.ops.begin(ctx, "apply", k.decl.Names())
	if err != nil {
		return nil, nil, err
	}
	defer func() { k.ops.finish(op, err) }()
	effects, _, err = k.Effects(ctx)
	if err != nil {
		return nil, nil, err
	}
	if slices.ContainsFunc(effects, func(e Effect) bool { return e.Refused != "" }) {
		return nil, nil, &RefusedError{effects}
	}
	var stop []string
	for _, e := range effects {
		if e.Does == Starts || e.Does == Restarts {
			start = append(start, e.Service)
		}
		if (e.Does == Stops || e.Does == Restarts) && k.units[e.Service] != nil {
			stop = append(stop, e.Service)
		}
	}
	k.note("", "applied", journal.Info, "the declaration is applied: "+Summary(effects))
	k.log.Info("apply", "stop", strings.Join(stop, " "), "start", strings.Join(start, " "))
	k.ops.supersede(op)
	k.stopAll(stop, nil)
	return effects, start, nil
}

// Reread returns what the declaration as it is now means for the services, and
// whether a keeper that has read it may take this one's place without any
// service that runs being touched, other than those that are named.
func (k *Keeper) Reread(ctx context.Context, except ...string) (may bool, effects []Effect, err error) {
	effects, _, err = k.Effects(ctx)
	if err != nil {
		return false, nil, err
	}
	may = !slices.ContainsFunc(effects, func(e Effect) bool {
		u := k.units[e.Service]
		if slices.Contains(except, e.Service) && e.Refused == "" && e.Does != Stops {
			return false
		}
		return e.Does == Restarts || e.Does == Stops && u != nil && u.snapshot().State != Stopped
	})
	return may, effects, nil
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
