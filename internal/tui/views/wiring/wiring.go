// Package wiring is the view of what reads what: variables, ports, env files.
package wiring

import (
	"context"
	"slices"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/project"
	"neighbour/internal/core/project/drift"
	"neighbour/internal/draw"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/view"
)

// Spec describes the view. Its argument is the part to show: "variables",
// "ports", "env files".
var Spec = view.Spec{ID: "wiring", Title: "wiring", Key: "3", New: open, Commands: commands}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &wiring{Env: e}
	if part, ok := args.(string); ok {
		v.part = max(0, slices.Index(parts, part))
	}
	return v, v.ask()
}

func commands(e *view.Env) []view.Command {
	var out []view.Command
	for _, part := range parts {
		out = append(out, view.Command{Says: "wiring: " + part, Key: "3", Do: func() tea.Cmd { return e.Turn("wiring", part) }})
	}
	return out
}

// wiringMsg brings the wiring.
type wiringMsg struct {
	wiring insight.Wiring
	err    error
}

// ask asks the keeper for the wiring.
func (v *wiring) ask() tea.Cmd {
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		w, err := c.Wiring(ctx)
		return wiringMsg{w, err}
	})
}

// The parts of the wiring view.
const (
	variablesPart = iota
	portsPart
	filesPart
	wiringParts
)

var parts = []string{"variables", "ports", "env files"}

// wiring is which service reads what of which, the ports, and the env
// files.
type wiring struct {
	*view.Env
	view.Still
	wiring insight.Wiring
	loaded bool
	err    string
	part   int
	row    [wiringParts]int
	reveal bool
}

func (v *wiring) took(msg wiringMsg) {
	v.loaded, v.err = true, ""
	if msg.err != nil {
		v.err = msg.err.Error()
		return
	}
	v.wiring = msg.wiring
	for part := range wiringParts {
		v.row[part] = min(v.row[part], max(0, v.count(part)-1))
	}
}

// drifts returns the rows of the env files.
func (v *wiring) drifts() (out []driftRow) {
	for _, f := range v.wiring.Files {
		if f.Problem != "" {
			out = append(out, driftRow{f, drift.Drift{Line: f.Line}})
		}
		for _, d := range f.Drift {
			out = append(out, driftRow{f, d})
		}
	}
	return out
}

type driftRow struct {
	file project.EnvFile
	drift.Drift
}

func (v *wiring) count(part int) int {
	switch part {
	case variablesPart:
		return len(v.wiring.Variables)
	case portsPart:
		return len(v.wiring.Ports)
	}
	return len(v.drifts())
}

func (v *wiring) move(by int) {
	v.row[v.part] = min(max(0, v.row[v.part]+by), max(0, v.count(v.part)-1))
}

// Update takes a message.
func (v *wiring) Update(msg tea.Msg) tea.Cmd {
	if w, ok := msg.(wiringMsg); ok {
		v.took(w)
	}
	v.move(view.Wheel(msg))
	return nil
}

// Bindings are the keys of the view.
func (v *wiring) Bindings() []view.Binding {
	does := "show values"
	if v.reveal {
		does = "hide values"
	}
	return []view.Binding{
		view.Bind("up down pgup pgdown", "choose", func(pressed string) tea.Cmd {
			v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed])
			return nil
		}).Shown("↑ ↓"),
		view.Bind("tab right shift+tab left", [...]string{"ports", "env files", "variables"}[v.part], func(pressed string) tea.Cmd {
			by := 1
			if pressed == "shift+tab" || pressed == "left" {
				by = wiringParts - 1
			}
			v.part = (v.part + by) % wiringParts
			return nil
		}).Shown("tab").Helps("variables, ports, env files"),
		view.Act("v", does, func() tea.Cmd {
			v.reveal = !v.reveal
			return nil
		}).If(v.part != portsPart).Helps("show or hide passwords"),
		view.Act("c", "copy", func() tea.Cmd {
			w := v.wiring.Variables[v.row[v.part]]
			v.Say("copied the value of "+w.Name, false)
			return tea.SetClipboard(w.Value)
		}).If(v.part == variablesPart && len(v.wiring.Variables) > 0).Spare(3).Helps("copy the variable's value"),
		view.Act("d", "draw", func() tea.Cmd {
			return act.Draw(v.Env, "wiring", draw.Wiring(v.wiring, draw.Options{Project: v.Overview.Project, At: v.Now}))
		}).If(v.loaded).Spare(4).Helps("draw it, without values"),
		view.Act("r", "look again", v.ask).Spare(2),
	}
}

// Render draws the view.
func (v *wiring) Render() view.Drawing { return view.Drawing{Lines: v.draw(v.Rows)} }
