// Package snapshots is the view of the data that was saved: it saves what services hold, and puts
// it back.
package snapshots

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Spec describes the view, which the data's opens.
var Spec = view.Spec{ID: "snapshots", Title: "snapshots", New: open, Commands: commands}

func commands(e *view.Env) []view.Command {
	out := []view.Command{{Says: "snapshots: the data that was saved", Key: "8 S", Do: func() tea.Cmd { return e.Turn("snapshots", nil) }}}
	return append(out, view.Command{Says: "save the data of all services", Do: func() tea.Cmd { return e.Turn("snapshots", true) }})
}

// open opens the view; with true as the argument it asks at once what is saved as.
func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e}
	if save, _ := args.(bool); save {
		v.save()
	}
	return v, v.list()
}

// screen is the snapshots, one a line, and all of the selected one.
type screen struct {
	*view.Env
	view.Still
	all      []keep.StoredSnapshot
	wrong    []string
	loaded   bool
	err      string
	selected string
	asking   bool
	at       time.Time // of the latest answer
}

type listMsg struct {
	snapshots api.Snapshots
	err       error
}

// listEvery is how often the list is asked for, since commands save, too.
const listEvery = 3 * time.Second

func (v *screen) list() tea.Cmd {
	v.asking = true
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		s, err := c.Snapshots(ctx)
		return listMsg{s, err}
	})
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case listMsg:
		v.asking, v.at = false, v.Now
		if msg.err != nil {
			v.err = msg.err.Error()
			return nil
		}
		v.all, v.wrong, v.loaded, v.err = msg.snapshots.Snapshots, msg.snapshots.Wrong, true, ""
	case view.Tick:
		if !v.asking && msg.At.Sub(v.at) >= listEvery {
			return v.list()
		}
	}
	v.move(view.Wheel(msg))
	return nil
}

func (v *screen) index() int {
	for i, s := range v.all {
		if s.Name == v.selected {
			return i
		}
	}
	return 0
}

// chosen returns the selected snapshot, nil if there is none.
func (v *screen) chosen() *keep.StoredSnapshot {
	if len(v.all) == 0 {
		return nil
	}
	return &v.all[v.index()]
}

func (v *screen) move(by int) {
	if len(v.all) > 0 && by != 0 {
		v.selected = v.all[min(max(v.index()+by, 0), len(v.all)-1)].Name
	}
}

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	s := v.chosen()
	return []view.Binding{
		view.Bind("up down pgup pgdown", "choose", func(pressed string) tea.Cmd {
			v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed])
			return nil
		}).Shown("↑ ↓").If(len(v.all) > 0),
		view.Act("n", "save now", func() tea.Cmd { v.save(); return nil }).Helps("save the data of all services as it is now"),
		view.Act("r", "put back", func() tea.Cmd { return v.restore(s) }).If(s != nil && s.Wrong == "").Helps("put the data of the snapshot in the place of what services hold, after a question"),
		view.Act("x", "delete", func() tea.Cmd { return v.drop(s) }).If(s != nil).Helps("delete the snapshot, after a question"),
		view.Act("esc S", "the data", func() tea.Cmd { return v.Turn("data", nil) }).Shown("esc").Helps("back to what services hold"),
	}
}

// do has the keeper do something that takes long; what it did is said, whatever is open by then.
func (v *screen) do(under string, do func(context.Context, *api.Client) (string, error)) tea.Cmd {
	v.Say(under, false)
	client, ctx := v.Client(), v.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, view.StopLimit)
		defer cancel()
		says, err := do(ctx, client)
		return view.Later(func() tea.Cmd {
			if err != nil {
				says, _, _ = strings.Cut(err.Error(), "\n")
			}
			v.Say(says, err != nil)
			return v.list()
		})
	}
}

// save asks for a name, and saves.
func (v *screen) save() {
	field := ui.TextField("name", "", "left out: the time", 46)
	field.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Save the data of all services", Fields: []*ui.Field{field}, Yes: "save"}
	f.Take = func() (tea.Cmd, error) {
		name := field.Value()
		if name != "" {
			if err := snapshot.CheckName(name); err != nil {
				return nil, err
			}
		}
		v.selected = name
		v.Show(nil)
		return v.do("saving", func(ctx context.Context, c *api.Client) (string, error) {
			m, err := c.SaveSnapshot(ctx, name)
			if err != nil {
				return "", err
			}
			return fmt.Sprintf("saved %s: %s of %s; services stood still for %s", m.Name, words.Bytes(uint64(m.Bytes)), words.Join(m.Names()), words.Millis(m.HeldMS)), nil
		}), nil
	}
	v.Show(f)
}

// restore tells what would be lost, asks, and restores.
func (v *screen) restore(s *keep.StoredSnapshot) tea.Cmd {
	name := s.Name
	return v.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		losses, err := c.Restoring(ctx, name)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			var list, stops []string
			for _, l := range losses {
				list = append(list, fmt.Sprintf("%s: %s", l.Service, words.Bytes(l.Bytes)))
				stops = append(stops, l.Stops...)
			}
			text := "This is replaced by what the snapshot has, and kept as the snapshot \"replaced\" until the next time."
			if len(stops) > 0 {
				text += " What reads it is restarted."
			}
			v.Show(&panel.Question{Env: v.Env, Title: "Put " + name + " back?", Text: text, List: list, Yes: "put it back", Then: func() tea.Cmd {
				return v.do("putting "+name+" back", func(ctx context.Context, c *api.Client) (string, error) {
					r, err := c.RestoreSnapshot(ctx, name)
					return fmt.Sprintf("%s is back: %s", r.Name, words.Join(r.Services)), err
				})
			}})
			return nil
		}, nil
	})
}

func (v *screen) drop(s *keep.StoredSnapshot) tea.Cmd {
	name := s.Name
	v.Show(&panel.Question{Env: v.Env, Title: "Delete the snapshot " + name + "?", Text: fmt.Sprintf("It was saved %s, and holds %s of %s. What services hold now is not touched.", v.age(s.Made), words.Bytes(uint64(s.Bytes)), words.Join(s.Names())), Yes: "delete it", Then: func() tea.Cmd {
		return v.do("deleting "+name, func(ctx context.Context, c *api.Client) (string, error) {
			return name + " is deleted", c.DropSnapshot(ctx, name)
		})
	}})
	return nil
}

func (v *screen) age(t time.Time) string {
	if d := v.Now.Sub(t); d < 24*time.Hour {
		return words.Span(d) + " ago"
	}
	return t.Local().Format("2 Jan 15:04")
}

// Render draws the view.
func (v *screen) Render() view.Drawing {
	t := v.Theme()
	say := func(lines ...string) view.Drawing {
		out := []string{""}
		for _, l := range lines {
			out = append(out, "  "+t.Paint(ui.Plain, l))
		}
		return view.Drawing{Lines: ui.Fill(ui.Truncate(out, v.Columns), v.Rows)}
	}
	switch {
	case v.err != "":
		return say(v.err)
	case !v.loaded:
		return say("asking the keeper")
	case len(v.all) == 0 && len(v.wrong) == 0:
		return say("The data of services stands here once it was saved: all of them as they are at one moment.", "n saves it; neighbour snapshot save NAME does the same.")
	}
	d := view.Drawing{}
	out := append(v.head(), "")
	name := 8
	for _, s := range v.all {
		name = max(name, min(28, display.Width(s.Name)))
	}
	out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%s  %-12s  %8s  %8s  %s", display.Pad("name", name), "saved", "holds", "own", "of")))
	var detail []string
	if s := v.chosen(); s != nil {
		detail = v.detail(s)
	}
	room := min(len(v.all), max(3, v.Rows-len(out)-1-min(len(detail), max(5, v.Rows/2))))
	first := min(max(0, v.index()-room/2), max(0, len(v.all)-room))
	for i := first; i < first+room && i < len(v.all); i++ {
		s := v.all[i]
		mark, in := "  ", ui.Plain
		if i == v.index() {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		about, ink := strings.Join(s.Names(), ", "), ui.Faint
		switch {
		case s.Wrong != "":
			about, ink = display.Signs("▲ ")+s.Wrong, ui.Warn
		case s.Why != "":
			about = s.Why
		}
		d.Spots = append(d.Spots, view.Spot{X: 0, Y: len(out), Width: v.Columns, Height: 1, Click: func() tea.Cmd { v.selected = s.Name; return nil }})
		out = append(out, mark+t.Paint(in, display.Pad(display.Truncate(s.Name, name), name))+t.Paint(ui.Plain, fmt.Sprintf("  %-12s  %8s  %8s  ", v.age(s.Made), words.Bytes(uint64(s.Bytes)), words.Bytes(uint64(s.Copied))))+t.Paint(ink, display.Plain(about)))
	}
	d.Lines = ui.Fill(ui.Truncate(append(append(out, ""), detail...), v.Columns), v.Rows)
	return d
}

// head says what there is, and what is wrong with it.
func (v *screen) head() []string {
	t := v.Theme()
	var own uint64
	for _, s := range v.all {
		own += uint64(s.Copied)
	}
	text := "nothing is saved"
	if len(v.all) > 0 {
		text = fmt.Sprintf("%s, the newest %s; %s that nothing else holds.", words.Count(len(v.all), "snapshot"), v.age(v.all[0].Made), words.Bytes(own))
	}
	out := []string{"  " + t.Paint(ui.Strong, text)}
	for _, w := range v.wrong {
		out = append(out, "  "+t.Paint(ui.Warn, display.Signs("▲ ")+display.Plain(w)))
	}
	return out
}

// detail returns what a snapshot holds.
func (v *screen) detail(s *keep.StoredSnapshot) []string {
	t := v.Theme()
	out := []string{t.Rule(s.Name, v.Columns)}
	row := func(label, text string, in ui.Ink) {
		for i, l := range display.Wrap(display.Plain(text), v.Columns-16) {
			if i > 0 {
				label = ""
			}
			out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s", label))+t.Paint(in, l))
		}
	}
	by := s.By
	if by == "" {
		by = "somebody"
	}
	row("saved", fmt.Sprintf("%s, by %s, on %s", s.Made.Local().Format("Mon 2 Jan 2006 15:04:05"), by, s.Platform), ui.Plain)
	if s.Why != "" {
		row("for", s.Why, ui.Plain)
	}
	if s.Wrong != "" {
		row("wrong", s.Wrong, ui.Warn)
	}
	row("took", fmt.Sprintf("%s; services stood still for %s", words.Millis(s.TookMS), words.Millis(s.HeldMS)), ui.Plain)
	name := 8
	for _, one := range s.Services {
		name = max(name, min(20, display.Width(one.Name)))
	}
	for i, one := range s.Services {
		label := ""
		if i == 0 {
			label = "holds"
		}
		struck := ""
		if rules := s.Masked[one.Name]; len(rules) > 0 {
			struck = "  without " + strings.Join(rules, ", ")
		}
		out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s", label))+t.Paint(ui.Plain, fmt.Sprintf("%s  %8s  ", display.Pad(display.Truncate(display.Plain(one.Name), name), name), words.Bytes(uint64(one.Bytes))))+
			t.Paint(ui.Faint, display.Plain(fmt.Sprintf("%-18s  %-12s", strings.TrimSpace(one.Kind+" "+one.Version), one.How)+struck)))
	}
	return out
}
