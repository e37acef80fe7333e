// Package panel has the boxes that stand over a view: a question, a choice of
// several, a form.
package panel

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Question asks before something is done.
type Question struct {
	Env              *view.Env
	Title, Text, Yes string
	List             []string // what the text speaks of, one in a line
	Then             func() tea.Cmd
}

// Render draws the question.
func (q *Question) Render() []string {
	t := q.Env.Theme()
	lines := []string{""}
	for _, l := range display.Wrap(q.Text, min(60, q.Env.Width-12)) {
		lines = append(lines, t.Paint(ui.Plain, l))
	}
	if len(q.List) > 0 {
		lines = append(lines, "")
	}
	shown := q.List
	if room := max(3, q.Env.Height-14); len(shown) > room {
		shown = shown[:room-1]
	}
	for _, l := range shown {
		lines = append(lines, t.Paint(ui.Strong, "  "+display.Truncate(display.Plain(l), q.Env.Width-14)))
	}
	if more := len(q.List) - len(shown); more > 0 {
		lines = append(lines, t.Paint(ui.Faint, fmt.Sprintf("  and %d more", more)))
	}
	return t.Frame(q.Title, append(lines, "", choices(t, q.Yes, "leave as it is")), q.Env.Width)
}

// choices is the last line of a box.
func choices(t *ui.Theme, yes, no string) string {
	return t.Paint(ui.Accent, "enter") + " " + t.Paint(ui.Plain, yes) + "   " + t.Paint(ui.Accent, "esc") + " " + t.Paint(ui.Plain, no)
}

// Bindings are the answers.
func (q *Question) Bindings() []view.Binding {
	return []view.Binding{
		view.Act("enter", q.Yes, func() tea.Cmd {
			q.Env.Show(nil)
			return q.Then()
		}),
		Leave(q.Env, "leave as it is"),
	}
}

// Type ignores other keys.
func (*Question) Type(tea.KeyPressMsg) tea.Cmd { return nil }

// Leave is the binding that takes a panel away.
func Leave(e *view.Env, does string) view.Binding {
	return view.Act("esc q", does, func() tea.Cmd {
		e.Show(nil)
		return nil
	}).Shown("esc")
}

// Choice is a row of a menu.
type Choice struct {
	Text string
	Then func() tea.Cmd
}

// Menu asks for one of several, taken with enter or its number.
type Menu struct {
	Env     *view.Env
	Title   string
	Choices func() []Choice
	at      int
}

// Render draws the menu.
func (m *Menu) Render() []string {
	t := m.Env.Theme()
	var out []string
	for i, c := range m.Choices() {
		mark, in := "  ", ui.Plain
		if i == m.at {
			mark, in = "▌ ", ui.Accent
		}
		out = append(out, t.Paint(ui.Accent, mark)+t.Paint(ui.Faint, fmt.Sprintf("%d  ", i+1))+t.Paint(in, display.Plain(c.Text)))
	}
	return t.Frame(m.Title, out, m.Env.Width)
}

func (m *Menu) take(i int) tea.Cmd {
	all := m.Choices()
	if i >= len(all) {
		return nil
	}
	m.Env.Show(nil)
	return all[i].Then()
}

// Bindings are the keys of the menu.
func (m *Menu) Bindings() []view.Binding {
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			if pressed == "up" {
				m.at = max(0, m.at-1)
			} else {
				m.at = min(len(m.Choices())-1, m.at+1)
			}
			return nil
		}).Shown("↑ ↓"),
		view.Act("enter", "take", func() tea.Cmd { return m.take(m.at) }),
		Leave(m.Env, "back"),
	}
}

// Type takes the number of a row.
func (m *Menu) Type(k tea.KeyPressMsg) tea.Cmd {
	if k.Text >= "1" && k.Text <= "9" && len(k.Text) == 1 {
		return m.take(int(k.Text[0] - '1'))
	}
	return nil
}
