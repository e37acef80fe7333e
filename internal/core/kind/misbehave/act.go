package misbehave

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
)

// ActionName is the name of the action by which somebody who looks into a service has it
// misbehave.
const ActionName = "misbehave"

// Action is the action, with the rules of a file as they are. Without are those that mean
// nothing to the emulator.
func Action(file string, without ...string) (store.Action, error) {
	r, err := Read(file)
	a := ActionOf(r)
	a.Inputs = slices.DeleteFunc(a.Inputs, func(i store.Input) bool { return slices.Contains(without, i.Name) })
	return a, err
}

// ActionOf is the action, with rules as they are.
func ActionOf(r Rules) store.Action {
	yes := map[bool]string{true: "yes", false: "no"}
	return store.Action{Name: ActionName, Says: "have it misbehave, for tests", Inputs: []store.Input{
		{Name: "slow", Hint: "how long every answer waits: 200ms", Value: r.Slow.String()},
		{Name: "spread", Hint: "by how much that differs: 50ms", Value: r.Spread.String()},
		{Name: "errors", Hint: "how many requests of a hundred fail", Value: strconv.Itoa(r.Errors)},
		{Name: "throttled", Hint: "how many of a hundred are refused as too many", Value: strconv.Itoa(r.Throttled)},
		{Name: "cut", Hint: "how many of a hundred lose the connection", Value: strconv.Itoa(r.Cut)},
		{Name: "full", Hint: "yes: there is no room for writes", Value: yes[r.Full]},
		{Name: "read_only", Hint: "yes: nothing may be written", Value: yes[r.ReadOnly]},
		{Name: "clock", Hint: "how far its clock is ahead: 20m", Value: r.Clock.String()},
	}}
}

// FromAct returns the rules that an act means; what it leaves out stays as it is in a file.
func FromAct(file string, a store.Act) (Rules, error) {
	r, err := Read(file)
	if err != nil {
		return r, err
	}
	return Given(r, a)
}

// Given returns the rules that an act means; what it leaves out stays as it is.
func Given(r Rules, a store.Act) (_ Rules, err error) {
	wrong := func(name, how string) error { return &store.FixedError{Why: name + ": write " + how} }
	for name, to := range map[string]*time.Duration{"slow": &r.Slow, "spread": &r.Spread, "clock": &r.Clock} {
		if v := a.Values[name]; v != nil {
			text := strings.TrimSpace(*v)
			if text == "" || text == "0" {
				text = "0s"
			}
			if *to, err = time.ParseDuration(text); err != nil {
				return r, wrong(name, "for example 200ms")
			}
		}
	}
	for name, to := range map[string]*int{"errors": &r.Errors, "throttled": &r.Throttled, "cut": &r.Cut} {
		if v := a.Values[name]; v != nil {
			if *to, err = strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(*v), "%")); err != nil {
				return r, wrong(name, "a number from 0 to 100")
			}
		}
	}
	for name, to := range map[string]*bool{"full": &r.Full, "read_only": &r.ReadOnly} {
		if v := a.Values[name]; v != nil {
			switch strings.ToLower(strings.TrimSpace(*v)) {
			case "yes", "true":
				*to = true
			case "no", "false", "":
				*to = false
			default:
				return r, wrong(name, "yes or no")
			}
		}
	}
	if key, err := r.Check(); err != nil {
		return r, &store.FixedError{Why: key + ": " + err.Error()}
	}
	return r, nil
}

// Plan says what rules would do.
func Plan(r Rules) string {
	if words := r.InWords(); words != "" {
		return "until its next start it " + words
	}
	return "it behaves well"
}

// Do writes the rules that an act means to a file.
func Do(file string, a store.Act) (string, error) {
	r, err := FromAct(file, a)
	if err != nil {
		return "", err
	}
	return Plan(r), Write(file, r)
}
