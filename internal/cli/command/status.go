package command

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
)

// JSON prints a value, indented, as it is: nothing is cleaned in it.
func (a *App) JSON(v any) error {
	e := json.NewEncoder(a.Raw)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// WithoutDeclaration returns the project of -C although its declaration has
// problems, for what can be done without it.
func (a *App) WithoutDeclaration(problem error) (*project.Project, error) {
	var problems declare.Problems
	var profile *declare.UnknownProfileError
	var runs *UndeclaredError
	if errors.As(problem, &runs) {
		return runs.Left, nil
	}
	if !errors.As(problem, &problems) && !errors.As(problem, &profile) {
		return nil, problem
	}
	return project.Nearest(a.Dir)
}

// jsonStatus is the stable shape of status --json.
type jsonStatus struct {
	Project  string        `json:"project"`
	Keeper   *jsonKeeper   `json:"keeper"` // null without one
	Services []jsonService `json:"services"`
}

type jsonKeeper struct {
	PID int `json:"pid"`
}

type jsonService struct {
	Name     string              `json:"name"`
	Kind     string              `json:"kind"`
	State    string              `json:"state"`
	Reason   string              `json:"reason"`
	Needs    []string            `json:"needs"`
	Step     int                 `json:"step"`
	Port     int                 `json:"port"`
	PID      int                 `json:"pid"`
	Version  string              `json:"version"`
	ReadyMS  float64             `json:"ready_ms"`
	Restarts int                 `json:"restarts"`
	Exposed  string              `json:"exposed,omitempty"`
	Held     bool                `json:"held,omitempty"`
	Runtimes []supervise.Runtime `json:"runtimes,omitempty"`
	Done     []supervise.Step    `json:"done,omitempty"`
	Facts    map[string]string   `json:"facts"`
}

// PrintStatus prints statuses as JSON, with the process id of the keeper, 0 if none runs.
func (a *App) PrintStatus(p *project.Project, current map[string]api.Status, pid int) error {
	out := jsonStatus{Project: p.Name, Services: []jsonService{}}
	if pid != 0 {
		out.Keeper = &jsonKeeper{pid}
	}
	for _, st := range ByStep(current) {
		facts := map[string]string{}
		for _, f := range st.Facts {
			facts[f.Name] = f.Value
		}
		state := string(st.State)
		if st.Held { // its process is ready, and what needs it waits
			state = "held"
		}
		out.Services = append(out.Services, jsonService{
			Name: st.Name, Kind: st.Kind, State: state, Reason: st.Reason, Needs: st.Needs, Step: st.Step,
			Port: st.Port, PID: st.PID, Version: st.Version, ReadyMS: st.ReadyMS, Restarts: st.Restarts, Exposed: st.Exposed, Held: st.Held, Runtimes: st.Runtimes, Done: st.Done, Facts: facts,
		})
	}
	return a.JSON(out)
}

// InOrder returns the names of all services, each after what it needs.
func InOrder(p *project.Project) []string { return p.Plan.WithNeeds(p.Names()...) }

// ByStep returns the services as they run, which may be others than the file
// declares by now, by step and name.
func ByStep(current map[string]api.Status) []api.Status {
	return slices.SortedFunc(maps.Values(current), func(a, b api.Status) int {
		return cmp.Or(a.Step-b.Step, strings.Compare(a.Name, b.Name))
	})
}

// Number writes a number for a table, "" for 0.
func Number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}
