package insight

import (
	"slices"
	"strings"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/errand"
)

// Errand is a declared errand, with what there is to say of it now.
type Errand struct {
	Name  string `json:"name"`
	About string `json:"about,omitempty"`
	Run   string `json:"run"` // the command as the file has it
	With  string `json:"with,omitempty"`
	Where string `json:"where"` // in the declaration
	// Needs are the services that it needs, in the order of the plan.
	Needs []Needed `json:"needs"`
	// Before are the services before whose start it runs, On what makes it run:
	// "ready: api".
	Before []string `json:"before,omitempty"`
	On     []string `json:"on,omitempty"`
	// Due says why it would run before the next start of these, "" if it would not.
	Due      string `json:"due,omitempty"`
	Ask      string `json:"ask,omitempty"`
	Terminal bool   `json:"terminal,omitempty"`
	// Runs are the latest, the newest last.
	Runs []errand.Run `json:"runs"`
}

// Needed is a service that an errand needs.
type Needed struct {
	Name  string          `json:"name"`
	State supervise.State `json:"state"`
}

// Last returns the run that began last, false if there was none.
func (e Errand) Last() (errand.Run, bool) {
	if len(e.Runs) == 0 {
		return errand.Run{}, false
	}
	return e.Runs[len(e.Runs)-1], true
}

// WhenInWords says what makes it run: "before api, worker", "when api is ready",
// and else what it needs.
func (e Errand) WhenInWords() string {
	var parts []string
	if len(e.Before) > 0 {
		parts = append(parts, "before "+strings.Join(e.Before, ", "))
	}
	for _, on := range e.On {
		event, service, _ := strings.Cut(on, ": ")
		parts = append(parts, "when "+service+" "+map[string]string{"ready": "is ready", "failed": "fails", "stopped": "is stopped", "reset": "is emptied"}[event])
	}
	if len(parts) > 0 {
		return strings.Join(parts, ", ")
	}
	var needs []string
	for _, n := range e.Needs {
		needs = append(needs, n.Name)
	}
	if len(needs) == 0 {
		return ""
	}
	return "needs " + strings.Join(needs, ", ")
}

// shownRuns is how many runs of each errand are listed.
const shownRuns = 12

// Errands lists the errands of a project. State says how a service is.
func Errands(p *project.Project, state func(service string) supervise.State) ([]Errand, error) {
	out := []Errand{}
	store := errand.NewStore(p.ErrandDir())
	runs, err := store.Runs("", 1<<30)
	if err != nil {
		return nil, err
	}
	for _, e := range p.Errands {
		one := Errand{Name: e.Name, About: e.About, Run: e.Run.String(), With: e.WithService(), Where: e.At.String(), Ask: e.Ask, Terminal: e.Terminal, Needs: []Needed{}, Runs: []errand.Run{}}
		for _, step := range p.Plan.Steps() {
			for _, name := range step {
				if slices.Contains(e.Needs, name) {
					one.Needs = append(one.Needs, Needed{name, state(name)})
				}
			}
		}
		for _, s := range p.Services {
			if slices.Contains(p.Before(s.Name), e) {
				one.Before = append(one.Before, s.Name)
			}
		}
		if len(one.Before) > 0 {
			due, err := p.ErrandDue(e)
			if one.Due = due.Why; err != nil {
				one.Due = err.Error()
			}
		}
		for event, service := range e.On.Events() {
			one.On = append(one.On, event+": "+service)
		}
		slices.Sort(one.On)
		for _, r := range runs {
			// What a copy had run before its services says nothing of these.
			if r.Errand == e.Name && (r.Copy == p.Copy || len(one.Before) == 0) {
				one.Runs = append(one.Runs, r)
			}
		}
		one.Runs = one.Runs[max(0, len(one.Runs)-shownRuns):]
		out = append(out, one)
	}
	return out, nil
}
