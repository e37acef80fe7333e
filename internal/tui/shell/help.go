package shell

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// help lists the keys of the open view and of the shell, and the signs.
type help struct {
	m    *Model
	keys []view.Binding
	page int
}

func (m *Model) help() tea.Cmd {
	h := &help{m: m}
	for _, b := range append(m.view.Bindings(), m.bindings()...) {
		if b.Explains() != "" && !b.Secret {
			h.keys = append(h.keys, b)
		}
	}
	h.keys = append(h.keys, view.Bind("", "selects; shift and drag marks text", nil).Shown("mouse"))
	m.panel = h
	return nil
}

// stateHelp are the states with what they mean.
var stateHelp = []struct {
	state supervise.State
	text  string
}{
	{supervise.Stopped, "not started"}, {supervise.Waiting, "for what it needs"}, {supervise.Preparing, "once before a start"},
	{supervise.Starting, "runs, not ready yet"}, {supervise.Ready, "its check is answered"}, {supervise.Ailing, "was ready, check fails"},
	{supervise.Held, "ready, not its data"},
	{supervise.Stopping, "asked to end"}, {supervise.Failed, "gave up; says why"}, {supervise.Finished, "ran once, ended well"},
}

// helpWide is from which width on keys and signs are beside each other.
const helpWide = 96

// Render draws the help.
func (h *help) Render() []string {
	t, width := h.m.Theme(), h.m.state.Width
	var keys, marks []string
	column := 8
	for _, b := range h.keys {
		column = max(column, display.Width(b.Label())+2)
	}
	for _, b := range h.keys {
		keys = append(keys, t.Paint(ui.Accent, display.Pad(b.Label(), column))+t.Paint(ui.Plain, b.Explains()))
	}
	if h.m.client != nil {
		for _, s := range stateHelp {
			marks = append(marks, t.Paint(view.StateInk(s.state), fmt.Sprintf("%s %-10s", signs.State(s.state), s.state))+t.Paint(ui.Plain, s.text))
		}
		marks = append(marks, "", t.Paint(ui.Good, "▂▃▄▅▇")+t.Paint(ui.Plain, " how long a check took"), t.Paint(ui.Bad, "×")+t.Paint(ui.Plain, "     a check that failed"))
	}
	// What doesn't fit is on further pages, keys and signs each going on; on a
	// narrow screen the signs come after the keys.
	room := h.room()
	if width < helpWide {
		keys, marks = append(append(keys, ""), marks...), nil
	}
	pages := h.pages()
	if pages > 1 {
		page := min(h.page, pages-1)
		keys, marks = part(keys, page, room), part(marks, page, room)
	}
	lines := make([]string, max(len(keys), len(marks)))
	for i := range lines {
		k, s := "", ""
		if i < len(keys) {
			k = keys[i]
		}
		if i < len(marks) {
			s = marks[i]
		}
		if marks == nil {
			lines[i] = display.Pad(k, min(60, width-12))
			continue
		}
		lines[i] = display.Pad(k, min(56, width-12-34)) + "  " + s
	}
	title := "Keys and signs"
	if pages > 1 {
		title += fmt.Sprintf(", page %d of %d", min(h.page, pages-1)+1, pages)
	}
	return t.Frame(title, lines, width)
}

// pages returns how many pages the help has on this screen.
func (h *help) pages() int {
	rows := max(len(h.keys), len(stateHelp)+3)
	if h.m.state.Width < helpWide {
		rows = len(h.keys) + len(stateHelp) + 4
	}
	return (rows + h.room() - 1) / h.room()
}

// room returns how many rows of help the screen has room for.
func (h *help) room() int { return max(4, h.m.rows()-2) }

// part returns a page of rows.
func part(rows []string, page, size int) []string {
	from := min(page*size, len(rows))
	return rows[from:min(from+size, len(rows))]
}

// Bindings turn the pages.
func (h *help) Bindings() []view.Binding {
	if h.pages() < 2 {
		return []view.Binding{view.Bind("", "back", nil).Shown("any key")}
	}
	return []view.Binding{
		view.Bind("right down pgdown space tab left up pgup shift+tab", "another page", func(pressed string) tea.Cmd {
			by := 1
			switch pressed {
			case "left", "up", "pgup", "shift+tab":
				by = -1
			}
			if h.page += by; h.page < 0 || h.page >= h.pages() {
				h.m.panel = nil
			}
			return nil
		}).Shown("← →"),
		view.Bind("", "back", nil).Shown("any other key"),
	}
}

// Type takes the help away.
func (h *help) Type(tea.KeyPressMsg) tea.Cmd {
	h.m.panel = nil
	return nil
}
