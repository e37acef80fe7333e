package traffic

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// triggers is the list of triggers, in the place of what passes.
type triggers struct {
	shown    bool
	all      keep.Triggers
	selected int
	asking   bool
}

type triggersMsg struct {
	all keep.Triggers
	err error
}

func (v *screen) loadTriggers() tea.Cmd {
	if v.triggers.asking {
		return nil
	}
	v.triggers.asking = true
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		all, err := c.Triggers(ctx)
		return triggersMsg{all, err}
	})
}

func (v *screen) tookTriggers(msg triggersMsg) tea.Cmd {
	v.triggers.asking = false
	if msg.err != nil {
		v.Say(msg.err.Error(), true)
		return nil
	}
	v.triggers.all = msg.all
	v.triggers.selected = min(v.triggers.selected, max(0, len(msg.all.Triggers)-1))
	return nil
}

// trigger returns the chosen one.
func (v *screen) trigger() (keep.Trigger, bool) {
	if i := v.triggers.selected; i < len(v.triggers.all.Triggers) {
		return v.triggers.all.Triggers[i], true
	}
	return keep.Trigger{}, false
}

func (v *screen) triggerBindings() []view.Binding {
	t, some := v.trigger()
	leave := func() tea.Cmd { v.triggers.shown = false; return nil }
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			v.triggers.selected = min(max(0, v.triggers.selected+map[string]int{"up": -1, "down": 1}[pressed]), max(0, len(v.triggers.all.Triggers)-1))
			return nil
		}).Shown("↑ ↓"),
		view.Act("enter", "its history", func() tea.Cmd {
			v.triggers.shown, v.only, v.all, v.list, v.follow = false, "event "+t.Name, nil, nil, true
			return v.load()
		}).If(some).Helps("the events of the trigger, and what became of each"),
		view.Act("f", "fire", func() tea.Cmd { v.fire(t); return nil }).If(some).Helps("send an event by hand"),
		view.Act("p", map[bool]string{true: "go on", false: "pause"}[t.Paused != ""], func() tea.Cmd {
			return tea.Sequence(v.Call(view.CallLimit, func(ctx context.Context, c *api.Client) error { return c.PauseTrigger(ctx, t.Name, t.Paused == "") }), v.loadTriggers())
		}).If(some).Helps("have it send nothing, or go on"),
		view.Act("t", "what passes", leave).Helps("the requests and events again"),
		view.Act("esc", "back", leave),
	}
}

var errJSON = errors.New("the data is to be JSON: {\"id\": 1}")

// fire asks for the data of an event, and sends it.
func (v *screen) fire(t keep.Trigger) {
	data := ui.TextField("data", "", "JSON; left out: that of its latest event", 46)
	data.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Fire " + t.Name, Fields: []*ui.Field{data}, Yes: "fire it"}
	f.Take = func() (tea.Cmd, error) {
		text := strings.TrimSpace(data.Value())
		if text != "" && !json.Valid([]byte(text)) {
			return nil, errJSON
		}
		v.Show(nil)
		v.Say(t.Name+" is fired", false)
		return tea.Sequence(v.Call(view.CallLimit, func(ctx context.Context, c *api.Client) error {
			_, err := c.FireTrigger(ctx, t.Name, json.RawMessage(text))
			return err
		}), v.loadTriggers()), nil
	}
	v.Show(f)
}

// moment says when something comes: in how long, or on which day.
func moment(at, now time.Time) string {
	if d := at.Sub(now); d < 24*time.Hour {
		return "in " + words.Span(d)
	}
	return at.Local().Format("Mon 2 Jan 15:04")
}

func (v *screen) drawTriggers(above int) (out []string, spots []view.Spot) {
	t := v.Theme()
	all := v.triggers.all
	names, ons := 8, 10
	for _, tr := range all.Triggers {
		names, ons = max(names, min(20, display.Width(tr.Name))), max(ons, display.Width(display.Plain(tr.On)))
	}
	ons = min(ons, max(10, v.columns-names-64))
	right := func(text string, wide int) string { return fmt.Sprintf("%*s", wide, text) }
	out = append(out, "  "+t.Paint(ui.Faint, display.Pad("trigger", names)+"  "+display.Pad("when", ons)+right("arrived", 9)+right("waiting", 9)+right("aside", 7)+"  last          next"))
	for i, tr := range all.Triggers {
		mark, in := "  ", ui.Plain
		if i == v.triggers.selected {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		last, next := "never", ""
		if tr.Last != nil {
			last = words.Span(time.Since(*tr.Last)) + " ago"
		}
		if tr.Next != nil {
			next = moment(*tr.Next, all.Clock)
		}
		switch {
		case tr.Paused != "":
			next = "○ paused"
		case tr.Problem != "":
			next = "▲ " + tr.Problem
		case !tr.Watched:
			next = "○ not watched"
		}
		aside, ink := "–", ui.Faint
		if tr.Aside > 0 {
			aside, ink = "✖ "+strconv.Itoa(tr.Aside), ui.Bad
		}
		nextInk := ui.Plain
		if tr.Paused != "" || tr.Problem != "" || !tr.Watched {
			nextInk = ui.Warn
		}
		spots = append(spots, view.Spot{X: 0, Y: above + len(out), Width: v.columns, Height: 1, Click: func() tea.Cmd { v.triggers.selected = i; return nil }})
		out = append(out, mark+t.Paint(in, display.Pad(display.Truncate(tr.Name, names), names))+"  "+t.Paint(ui.Plain, display.Pad(display.Truncate(display.Plain(tr.On), ons), ons))+
			t.Paint(ui.Plain, right(strconv.Itoa(tr.Done), 9)+right(strconv.Itoa(tr.Waiting), 9))+t.Paint(ink, right(display.Signs(aside), 7))+"  "+
			t.Paint(ui.Plain, display.Pad(display.Truncate(last, 12), 12))+"  "+t.Paint(nextInk, display.Signs(display.Plain(next))))
	}
	tr, ok := v.trigger()
	if !ok {
		return append(out, "  "+t.Paint(ui.Faint, "asking the keeper")), spots
	}
	out = append(out, "", t.Rule(display.Truncate(tr.Name, v.columns-6), v.columns))
	line := func(ink ui.Ink, text string) {
		for _, l := range display.Wrap(display.Plain(text), max(10, v.columns-4)) {
			out = append(out, "  "+t.Paint(ink, l))
		}
	}
	if tr.About != "" {
		line(ui.Plain, tr.About)
	}
	line(ui.Plain, "When "+tr.On+", "+tr.Target+" gets it.")
	switch {
	case tr.Paused != "":
		line(ui.Warn, "Nothing is sent: "+tr.Paused+".")
	case tr.Problem != "":
		line(ui.Warn, tr.Problem)
	case !tr.Watched:
		line(ui.Warn, "It is watched when its service is ready.")
	}
	if all.AheadMS != 0 {
		line(ui.Warn, "For schedules it is "+all.Clock.Local().Format("Mon 2 Jan 2006 15:04")+"; neighbour trigger clock now sets that right.")
	}
	var latest []string
	for i := range v.all {
		if e := &v.all[i]; e.What == traffic.Event && strings.HasSuffix(e.Event, "→ "+tr.Name) && above+len(out)+len(latest)+2 < v.rows {
			latest = append(latest, v.row(e, v.pathWide()))
		}
	}
	if len(latest) > 0 {
		out = append(append(out, "", "  "+t.Paint(ui.Faint, "its latest events")), latest...)
	}
	return out, spots
}
