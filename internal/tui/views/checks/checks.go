// Package checks is the view of what would go wrong, and what can be done about
// it.
package checks

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Spec describes the view. Its argument is the id of the finding to select.
var Spec = view.Spec{ID: "checks", Title: "checks", Key: "7", Count: count, New: open, Commands: commands}

// count returns how many findings there are that are worth a mark.
func count(s *view.State) string {
	n := 0
	for _, f := range s.Findings {
		if f.Level != check.Note {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func commands(e *view.Env) []view.Command {
	var out []view.Command
	for _, f := range e.Findings {
		for _, a := range f.Actions {
			out = append(out, view.Command{Says: a.Label + ": " + f.What, Do: func() tea.Cmd { return act.Remedy(e, f, a) }})
		}
	}
	return out
}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &checks{Env: e}
	v.selected, _ = args.(string)
	if f, ok := e.Finding(e.Selected); ok && v.selected == "" {
		v.selected = f.ID
	}
	return v, e.CheckAgain()
}

// checks is the findings, one a line, and all of the selected one.
type checks struct {
	*view.Env
	view.Still
	selected string // its id
	only     check.Level
}

// Update takes a message.
func (v *checks) Update(msg tea.Msg) tea.Cmd {
	v.move(view.Wheel(msg))
	return nil
}

// Bindings are the keys of the view, those of the selected finding among them.
func (v *checks) Bindings() []view.Binding {
	out := []view.Binding{view.Bind("up down pgup pgdown", "choose", func(pressed string) tea.Cmd {
		v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed])
		return nil
	}).Shown("↑ ↓")}
	onMap := false
	if all := v.shown(); len(all) > 0 {
		f := all[v.at(all)]
		for i, a := range f.Actions {
			out = append(out, view.Act(actionKey(i), a.Label, func() tea.Cmd { return act.Remedy(v.Env, f, a) }))
		}
		_, onMap = v.Services[f.Service]
		out = append(out, view.Act("enter", "on the map", func() tea.Cmd {
			v.Selected = f.Service
			return v.Turn("map", nil)
		}).If(onMap).Spare(3).Helps("show the service on the map"))
	}
	return append(out,
		view.Act("l", "level", func() tea.Cmd {
			levels := []check.Level{"", check.Stops, check.Warns, check.Note}
			v.only = levels[(slices.Index(levels, v.only)+1)%len(levels)]
			return nil
		}).Spare(2).Helps("only what would stop a start, only warnings, only notes"),
		view.Act("r", "check again", v.CheckAgain),
	)
}

func (v *checks) shown() []check.Finding {
	return slices.DeleteFunc(slices.Clone(v.Findings), func(f check.Finding) bool { return v.only != "" && f.Level != v.only })
}

// at returns the selected finding's place in what is shown.
func (v *checks) at(all []check.Finding) int {
	return max(0, slices.IndexFunc(all, func(f check.Finding) bool { return f.ID == v.selected }))
}

func (v *checks) move(by int) {
	if all := v.shown(); len(all) > 0 {
		v.selected = all[min(max(v.at(all)+by, 0), len(all)-1)].ID
	}
}

// Render draws the view.
func (v *checks) Render() view.Drawing { return view.Drawing{Lines: v.draw(v.Rows)} }

func (v *checks) draw(rows int) []string {
	t := v.Theme()
	all := v.shown()
	counts := map[check.Level]int{}
	for _, f := range v.Findings {
		counts[f.Level]++
	}
	head := "  "
	for _, l := range []struct {
		level check.Level
		says  string
	}{{check.Stops, "would stop a start"}, {check.Warns, "warnings"}, {check.Note, "notes"}} {
		in := view.LevelInk(l.level)
		if counts[l.level] == 0 {
			in = ui.Faint
		}
		says := l.says
		if counts[l.level] == 1 {
			says = strings.TrimSuffix(says, "s")
		}
		head += t.Paint(in, fmt.Sprintf("%s %d %s", signs.Level(l.level), counts[l.level], says)) + "   "
	}
	switch {
	case v.Checking:
		head += t.Paint(ui.Faint, "checking")
	case v.CheckErr != "":
		head += t.Paint(ui.Bad, "the checks could not be made: "+v.CheckErr)
	case v.only != "":
		head += t.Paint(ui.Faint, "only what "+string(v.only))
	case v.CheckTook > 0:
		head += t.Paint(ui.Faint, fmt.Sprintf("checked in %d ms", v.CheckTook.Milliseconds()))
	}
	out := []string{display.Truncate(head, v.Columns), ""}
	if len(all) == 0 {
		text := "Nothing was found that would go wrong."
		if len(v.Findings) > 0 {
			text = "Nothing of this level."
		}
		if v.Checking && len(v.Findings) == 0 {
			text = "Checking programs, versions, ports, folders, packages and env files."
		}
		return ui.Fill(append(out, "  "+t.Paint(ui.Plain, text)), rows)
	}
	at := v.at(all)
	detail := v.detail(all[at])
	room := max(3, rows-len(out)-len(detail)-1)
	first := min(max(0, at-room/2), max(0, len(all)-room))
	name := 8
	for _, f := range all {
		name = max(name, min(16, display.Width(v.nameOf(f))))
	}
	for i := first; i < min(len(all), first+room); i++ {
		f := all[i]
		mark, in := "  ", ui.Plain
		if i == at {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		keys := ""
		if len(f.Actions) > 0 {
			keys = t.Paint(ui.Accent, " ▸") // there is something to do about it
		}
		row := mark + t.Paint(view.LevelInk(f.Level), fmt.Sprintf("%s %-6s", signs.Level(f.Level), f.Level)) + t.Paint(in, display.Pad(display.Truncate(v.nameOf(f), name), name)) + "  "
		out = append(out, row+t.Paint(in, display.Truncate(display.Plain(f.What), v.Columns-display.Width(row)-3))+keys)
	}
	out = append(append(out, ""), detail...)
	return ui.Fill(append(out, v.excerpt(all[at], rows-len(out))...), rows)
}

func (v *checks) nameOf(f check.Finding) string {
	if f.Service == "" {
		return v.Overview.Project
	}
	return f.Service
}

func (v *checks) detail(f check.Finding) []string {
	t := v.Theme()
	title := v.nameOf(f) + " "
	out := []string{t.Paint(ui.Line, "── ") + t.Paint(ui.Accent, title) + t.Paint(ui.Line, strings.Repeat("─", max(0, v.Columns-3-display.Width(title))))}
	row := func(label, text string, in ui.Ink) {
		for i, l := range display.Wrap(display.Plain(text), v.Columns-16) {
			if i > 0 {
				label = ""
			}
			out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s", label))+t.Paint(in, l))
		}
	}
	row("found", f.What, ui.Plain)
	if f.Where != "" {
		row("in", f.Where, ui.Plain)
	}
	if f.Why != "" {
		row("why", f.Why, ui.Plain)
	}
	if f.Remedy != "" {
		row("do", f.Remedy, ui.Strong)
	}
	for i, a := range f.Actions {
		out = append(out, "  "+t.Paint(ui.Accent, fmt.Sprintf("%-10s", actionKey(i)))+t.Paint(ui.Plain, display.Truncate(display.Plain(a.Label+": "+a.Says), v.Columns-14)))
	}
	return out
}

// excerpt returns the lines of the declaration around the finding's place, as
// many as there is room for.
func (v *checks) excerpt(f check.Finding, rows int) []string {
	t := v.Theme()
	marked := slices.IndexFunc(f.Lines, func(l declare.SourceLine) bool { return l.Marked })
	if marked < 0 || rows < 3 {
		return nil
	}
	lines := f.Lines
	if rows -= 2; len(lines) > rows {
		from := max(0, min(marked-rows/2, len(lines)-rows))
		lines = lines[from : from+rows]
	}
	file, _, _ := strings.Cut(f.Where, ":")
	out := []string{"", "  " + t.Paint(ui.Faint, file)}
	for _, l := range lines {
		mark, in, number := "  ", ui.Plain, ui.Line
		if l.Marked {
			mark, in, number = t.Paint(ui.Accent, "▌ "), ui.Strong, ui.Accent
		}
		out = append(out, mark+t.Paint(number, fmt.Sprintf("%6d  ", l.Number))+t.Paint(in, display.Truncate(display.Plain(l.Text), v.Columns-12)))
	}
	return out
}

// actionKey returns the key of an action.
func actionKey(i int) string { return string(rune('a' + i)) }
