// Package starts is the view of how starts went: what each service waited for,
// which chain of them decided how long it took, and how it was before.
package starts

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/draw"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views/logs"
)

// Spec describes the view. Its argument is the number of a start; 0 is the one
// that began last.
var Spec = view.Spec{ID: "starts", Title: "starts", Key: "4", New: open, Commands: commands}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, selected: e.Selected, whatIf: -1}
	v.id, _ = args.(int64)
	return v, tea.Batch(v.list(), v.ask(v.id))
}

func commands(e *view.Env) []view.Command {
	return []view.Command{{Says: "starts: what decided the latest one", Key: "4", Do: func() tea.Cmd { return e.Turn("starts", nil) }}}
}

// screen is one start, with the earlier ones to choose from.
type screen struct {
	*view.Env
	view.Still
	all      []history.Summary
	id       int64 // of the start that is shown; 0: the one that began last
	report   *starts.Report
	err      string
	selected string // the service
	whatIf   int    // which of the report's is shown; -1: none
	ghost    *starts.Report
	reading  bool      // what was at a time is read
	cursor   float64   // that time, in milliseconds since the start began
	at       time.Time // when it was looked last
}

type (
	listMsg struct {
		all []history.Summary
		err error
	}
	reportMsg struct {
		id     int64
		ghost  bool
		report starts.Report
		err    error
	}
)

// mostShown is how many starts there are to choose from.
const mostShown = 200

func (v *screen) list() tea.Cmd {
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		all, err := c.Starts(ctx, mostShown)
		return listMsg{all, err}
	})
}

func (v *screen) ask(id int64) tea.Cmd {
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		r, err := c.StartReport(ctx, id)
		return reportMsg{id: id, report: r, err: err}
	})
}

// askGhost asks for the start before the one that is shown, of as many services.
func (v *screen) askGhost() tea.Cmd {
	i := v.place()
	for i--; i >= 0; i-- {
		if s := v.all[i]; s.Services == len(v.report.Start.Services) && s.Result == starts.Ready {
			return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
				r, err := c.StartReport(ctx, s.ID)
				return reportMsg{id: s.ID, ghost: true, report: r, err: err}
			})
		}
	}
	v.Say("there is no earlier start of these services that ended well", false)
	return nil
}

// place is where the start that is shown is in the list; -1 if it isn't.
func (v *screen) place() int {
	if v.id == 0 {
		return len(v.all) - 1
	}
	return slices.IndexFunc(v.all, func(s history.Summary) bool { return s.ID == v.id })
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case listMsg:
		if msg.err == nil {
			v.all = msg.all
		}
	case reportMsg:
		v.took(msg)
	case view.Tick:
		v.at = msg.At
	case view.Changed:
		return v.changed(msg)
	}
	v.move(view.Wheel(msg))
	return nil
}

// changed asks again for what may have changed.
func (v *screen) changed(msg view.Changed) tea.Cmd {
	under := v.report != nil && v.report.Start.Result == starts.UnderWay
	newer := v.report == nil || v.Overview.Began.After(v.report.Start.Began.Add(time.Millisecond))
	// What has just ended has no number yet.
	numbered := v.report != nil && v.report.Start.ID != 0
	if v.id != 0 || !msg.Moved && !msg.Fresh && !newer && numbered {
		return nil
	}
	cmds := []tea.Cmd{v.ask(0)}
	if !under || newer {
		cmds = append(cmds, v.list())
	}
	return tea.Batch(cmds...)
}

func (v *screen) took(msg reportMsg) {
	switch {
	case msg.ghost && msg.err == nil:
		v.ghost = &msg.report
	case msg.ghost:
		v.Say(msg.err.Error(), true)
	case msg.id != v.id: // another was chosen meanwhile
	case msg.err != nil && v.report == nil:
		v.err = msg.err.Error()
	case msg.err == nil:
		v.err = ""
		if v.report == nil || v.report.Start.ID != msg.report.Start.ID {
			v.whatIf = -1
		}
		v.report, v.at = &msg.report, time.Now()
		if _, ok := v.report.Start.Service(v.selected); !ok && len(v.report.Analysis.Path) > 0 {
			v.selected = v.slowest()
		}
	}
}

// slowest is the service of the path that took longest: what to make faster.
func (v *screen) slowest() string {
	own := v.report.Analysis.Own
	return slices.MaxFunc(v.report.Analysis.Path, func(a, b string) int {
		if own[a] < own[b] {
			return -1
		}
		return 1
	})
}

func (v *screen) move(by int) {
	if v.report == nil || by == 0 || len(v.report.Start.Services) == 0 {
		return
	}
	all := v.report.Start.Services
	i := slices.IndexFunc(all, func(s starts.Service) bool { return s.Name == v.selected })
	v.selected = all[min(max(0, i+by), len(all)-1)].Name
	if _, known := v.Services[v.selected]; known {
		v.Selected = v.selected
	}
}

// log opens the service's log at the time when it began to do something.
func (v *screen) log() tea.Cmd {
	s, ok := v.report.Start.Service(v.selected)
	if !ok {
		return nil
	}
	at := v.report.Start.Began
	if i := slices.IndexFunc(s.Phases, func(p starts.Phase) bool { return p.Is != starts.Waiting }); i >= 0 {
		at = at.Add(time.Duration(s.Phases[i].From * float64(time.Millisecond)))
	}
	return v.Turn("logs", logs.Args{Service: s.Name, At: at})
}

// read moves the cursor along the time axis: by a column, or with it to the next
// moment at which something began or ended.
func (v *screen) read(by int, moment bool) {
	g := v.axes()
	at := v.cursor
	switch {
	case !v.reading && by < 0:
		at = v.now()
	case !v.reading:
		at = 0
	case moment:
		at = v.report.Start.Next(v.cursor, by)
	default:
		at += float64(by) * g.top / float64(g.width)
	}
	v.reading, v.cursor = true, min(max(0, at), v.now())
}

// choose shows another start.
func (v *screen) choose(by int) tea.Cmd {
	i := v.place() + by
	if i < 0 || i >= len(v.all) {
		return nil
	}
	v.id, v.ghost, v.whatIf, v.reading = v.all[i].ID, nil, -1, false
	if i == len(v.all)-1 {
		v.id = 0
	}
	return v.ask(v.id)
}

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	has := v.report != nil
	what := "what if"
	if v.whatIf >= 0 {
		what = "next what if"
	}
	return []view.Binding{
		view.Bind("up down pgup pgdown", "service", func(pressed string) tea.Cmd {
			v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed])
			return nil
		}).Shown("↑ ↓").If(has),
		view.Bind("left right", "another start", func(pressed string) tea.Cmd {
			return v.choose(map[string]int{"left": -1, "right": 1}[pressed])
		}).Shown("← →").If(len(v.all) > 1),
		view.Bind("shift+left shift+right", "read a time", func(pressed string) tea.Cmd {
			v.read(map[string]int{"shift+left": -1, "shift+right": 1}[pressed], false)
			return nil
		}).Shown("⇧← ⇧→").If(has).Spare(1).Helps("move a cursor along the time axis: what each service did then"),
		view.Bind("[ ]", "moment", func(pressed string) tea.Cmd {
			v.read(map[string]int{"[": -1, "]": 1}[pressed], true)
			return nil
		}).If(has).Hushed().Helps("the moment before, the next one, at which something began or ended"),
		view.Act("esc", "no cursor", func() tea.Cmd { v.reading = false; return nil }).If(v.reading).Hushed().Helps("take the cursor away"),
		view.Act("w", what, func() tea.Cmd {
			if v.whatIf++; v.whatIf >= len(v.report.WhatIfs) {
				v.whatIf = -1
			}
			return nil
		}).If(has && len(v.report.WhatIfs) > 0).Helps("how long the start would have taken without its parts, one after another"),
		view.Act("g", "start before", func() tea.Cmd {
			if v.ghost != nil {
				v.ghost = nil
				return nil
			}
			return v.askGhost()
		}).If(has).Helps("show the start before below each bar, or take it away"),
		view.Act("enter", "log", v.log).If(has && v.selected != "").Helps("the service's log from when it began"),
		view.Act("d", "draw", func() tea.Cmd {
			o := draw.Options{Project: v.Overview.Project, At: v.Now}
			return act.Draw(v.Env, fmt.Sprintf("start-%d", v.report.Start.ID), draw.Start(v.report, v.ghost, o))
		}).If(has).Spare(2).Helps("draw it (neighbour draw start)"),
		view.Act("m", "on the map", func() tea.Cmd { return v.Turn("map", nil) }).If(has).Spare(3).Helps("show the service on the map"),
	}
}

// Render draws the view.
func (v *screen) Render() view.Drawing {
	d := view.Drawing{Lines: ui.Truncate(v.lines(), v.Columns)}
	if v.id != 0 {
		d.Note = fmt.Sprintf("start %d", v.id)
	}
	return d
}
