package projects

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// column is one of the list.
type column struct {
	title string
	width int
	right bool
	of    func(*api.Listed) (string, ui.Ink)
}

// mostSigns is how many services of a project are drawn, each as its sign.
const mostSigns = 14

// columns returns those for which there is room.
func (v *screen) columns(all []*api.Listed) []column {
	t := v.Theme()
	name, ports, marks, folder := 7, 5, 8, 12
	for _, l := range all {
		name = max(name, min(18, display.Width(display.Plain(l.Name))))
		ports = max(ports, min(26, display.Width(l.Where())))
		marks = max(marks, min(mostSigns, len(l.Services)))
		folder = max(folder, min(44, display.Width(display.Homely(l.Dir))))
	}
	out := []column{
		{"project", name, false, func(l *api.Listed) (string, ui.Ink) {
			if l.Dir == v.Overview.Dir {
				return display.Plain(l.Name), ui.Accent
			}
			return display.Plain(l.Name), ui.Strong
		}},
		{"services", marks, false, func(l *api.Listed) (string, ui.Ink) { return states(t, l), ui.Plain }},
		{"folder", 0, false, func(l *api.Listed) (string, ui.Ink) { return display.Homely(l.Dir), ui.Plain }},
		{"ports", ports, false, func(l *api.Listed) (string, ui.Ink) {
			if len(l.Rivals) > 0 {
				return l.Where(), ui.Warn
			}
			return l.Where(), ui.Plain
		}},
		{"memory", 7, true, func(l *api.Listed) (string, ui.Ink) {
			if l.Memory == 0 {
				return "–", ui.Faint
			}
			return words.Bytes(l.Memory), ui.Plain
		}},
		{"disk", 7, true, func(l *api.Listed) (string, ui.Ink) {
			if l.Gone {
				return "–", ui.Faint
			}
			if l.Disk < 0 {
				return "…", ui.Faint
			}
			return words.Bytes(uint64(l.Disk)), ui.Plain
		}},
		{"used", 18, false, func(l *api.Listed) (string, ui.Ink) {
			switch {
			case l.Gone:
				return l.When(v.Now), ui.Warn
			case l.Problem != "":
				return "see below", ui.Warn
			}
			return l.When(v.Now), ui.Faint
		}},
	}
	rest := func() int {
		n := v.Columns - 2
		for _, c := range out {
			n -= c.width + 2
		}
		return n
	}
	for rest() < 12 && len(out) > 4 { // the folder, disk, memory and ports give way, in this order
		for _, title := range []string{"disk", "memory", "folder", "ports"} {
			if i := indexOf(out, title); i >= 0 {
				out = append(out[:i], out[i+1:]...)
				break
			}
		}
	}
	if i := indexOf(out, "folder"); i >= 0 {
		out[i].width = min(max(12, rest()), folder)
	}
	return out
}

func indexOf(all []column, title string) int {
	for i, c := range all {
		if c.title == title {
			return i
		}
	}
	return -1
}

// states draws each service as the sign of its state.
func states(t *ui.Theme, l *api.Listed) string {
	switch {
	case l.Gone, l.Problem != "" && len(l.Services) == 0:
		return t.Paint(ui.Warn, display.Signs("▲"))
	case len(l.Services) > mostSigns:
		ready := 0
		for _, s := range l.Services {
			if s.Shown().Well() {
				ready++
			}
		}
		return t.Paint(ui.Plain, fmt.Sprintf("%d of %d", ready, len(l.Services)))
	}
	out := ""
	for _, s := range l.Services {
		out += t.Paint(view.StateInk(s.Shown()), signs.State(s.Shown()))
	}
	return out
}

func (v *screen) drawing() view.Drawing {
	t := v.Theme()
	if !v.loaded {
		text := "asking the keeper"
		if v.err != "" {
			text = v.err
		}
		return view.Drawing{Lines: ui.Fill([]string{"", "  " + t.Paint(ui.Plain, text)}, v.Rows)}
	}
	d := view.Drawing{Note: t.Paint(ui.Faint, "by "+orders[v.order].name)}
	all := v.shown()
	out := append(v.head(), "")
	if len(all) == 0 {
		d.Lines = ui.Fill(append(out, "  "+t.Paint(ui.Plain, "No project has that in its name, folder, ports or time.")), v.Rows)
		return d
	}
	at := v.at(all)
	columns := v.columns(all)
	title := "  "
	for _, c := range columns {
		title += t.Paint(ui.Faint, pad(c.title, c.width, c.right)) + "  "
	}
	out = append(out, title)
	detail := v.detail(all[at])
	room := min(len(all), max(3, v.Rows-len(out)-1-min(len(detail), max(4, (v.Rows-len(out))/2))))
	first := min(max(0, at-room/2), max(0, len(all)-room))
	for i := first; i < first+room; i++ {
		l := all[i]
		mark := "  "
		if i == at {
			mark = t.Paint(ui.Accent, "▌ ")
		}
		row := mark
		for _, c := range columns {
			text, in := c.of(l)
			if display.Width(text) > c.width {
				text = display.Truncate(text, c.width)
			}
			row += pad(t.Paint(in, text), c.width, c.right) + "  "
		}
		d.Spots = append(d.Spots, view.Spot{X: 0, Y: len(out), Width: v.Columns, Height: 1, Click: func() tea.Cmd {
			v.selected = l.Dir
			return v.look()
		}})
		out = append(out, row)
	}
	if more := len(all) - room; more > 0 {
		out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%d of %d", at+1, len(all))))
	} else {
		out = append(out, "")
	}
	d.Lines = ui.Fill(ui.Truncate(append(out, detail...), v.Columns), v.Rows)
	return d
}

func pad(text string, width int, right bool) string {
	if right {
		return strings.Repeat(" ", max(0, width-display.Width(text))) + text
	}
	return display.Pad(text, width)
}

// detail returns what is to be known of a project.
func (v *screen) detail(l *api.Listed) []string {
	t := v.Theme()
	title := display.Plain(l.Name)
	if l.Dir == v.Overview.Dir {
		title += ", which you see here"
	}
	out := []string{t.Rule(title, v.Columns)}
	row := func(label, text string, in ui.Ink) {
		for i, line := range display.Wrap(display.Plain(text), v.Columns-16) {
			if i > 0 {
				label = ""
			}
			out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s", label))+t.Paint(in, line))
		}
	}
	row("folder", display.Homely(l.Dir), ui.Plain)
	if l.Gone {
		row("", "It is no more. This is left of it, and f deletes it:", ui.Warn)
		for _, left := range l.Left {
			row("", fmt.Sprintf("%s: %s in %s", left.What, words.Bytes(left.Bytes), display.Homely(left.Paths[0])), ui.Plain)
		}
		return out
	}
	if l.Problem != "" {
		row("problem", l.Problem, ui.Bad)
	}
	for _, c := range v.listed.Clashes {
		for _, dir := range c.Dirs {
			if dir == l.Dir {
				row("port", fmt.Sprintf("%d is wanted by %s", c.Port, words.Join(c.Projects)), ui.Warn)
			}
		}
	}
	width := 8
	for _, s := range l.Services {
		width = max(width, min(20, display.Width(s.Name)))
	}
	for i, s := range l.Services {
		label := "services"
		if i > 0 {
			label = ""
		}
		state, port := s.Shown(), ""
		if s.Port != 0 {
			port = fmt.Sprintf(":%d", s.Port)
		}
		out = append(out, "  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s", label))+t.Paint(view.StateInk(state), signs.State(state))+" "+
			t.Paint(ui.Plain, display.Pad(display.Truncate(display.Plain(s.Name), width), width))+"  "+t.Paint(ui.Faint, fmt.Sprintf("%-10s %-7s", state, port))+t.Paint(ui.Faint, display.Plain(s.Reason)))
	}
	return append(out, v.findings(l)...)
}

// findings returns what would go wrong in a project.
func (v *screen) findings(l *api.Listed) []string {
	t := v.Theme()
	if l.Problem != "" {
		return nil
	}
	c, ok := v.checks[l.Dir]
	label := "  " + t.Paint(ui.Faint, fmt.Sprintf("%-10s", "checks"))
	switch {
	case !ok || c.at.IsZero():
		return []string{label + t.Paint(ui.Faint, "being made")}
	case c.err != nil:
		text, _, _ := strings.Cut(c.err.Error(), "\n")
		return []string{label + t.Paint(ui.Bad, display.Plain(text))}
	}
	var out []string
	for _, f := range c.found {
		if f.Level == check.Note {
			continue
		}
		if len(out) > 0 {
			label = strings.Repeat(" ", 12)
		}
		text := f.What
		if f.Service != "" {
			text = f.Service + ": " + text
		}
		out = append(out, label+t.Paint(view.LevelInk(f.Level), signs.Level(f.Level))+" "+t.Paint(ui.Plain, display.Plain(text)))
	}
	if len(out) == 0 {
		return []string{label + t.Paint(ui.Plain, "nothing was found that would go wrong")}
	}
	return out
}
