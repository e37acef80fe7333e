package logs

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// picker chooses the services that are shown.
type picker struct {
	view *logs
	at   int
}

func (p *picker) names() []string { return slices.Sorted(slices.Values(p.view.Order)) }

// Render draws the panel.
func (p *picker) Render() []string {
	t := p.view.Theme()
	names := p.names()
	room := max(4, p.view.Height-10)
	from := max(0, min(p.at-room/2, len(names)-room))
	colours := huesOf(names)
	var lines []string
	for i, name := range names[from:min(len(names), from+room)] {
		sign, in := "○ ", ui.Plain
		if len(p.view.services) == 0 || slices.Contains(p.view.services, name) {
			sign = "● "
		}
		mark := "  "
		if from+i == p.at {
			mark, in = "▌ ", ui.Accent
		}
		lines = append(lines, t.Paint(ui.Accent, mark)+t.Paint(colours[name], sign)+t.Paint(in, name))
	}
	return t.Frame("Whose entries to show", lines, p.view.Width)
}

// Bindings are the keys of the panel.
func (p *picker) Bindings() []view.Binding {
	names := p.names()
	some := len(names) > 0
	show := func(change func()) func() tea.Cmd {
		return func() tea.Cmd {
			change()
			return p.view.anew()
		}
	}
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			if pressed == "up" {
				p.at = max(0, p.at-1)
			} else {
				p.at = min(len(names)-1, p.at+1)
			}
			return nil
		}).Shown("↑ ↓").If(some),
		view.Act("space", "show or hide", show(func() { p.toggle(names) })).If(some),
		view.Act("o", "only this", show(func() { p.view.services = []string{names[p.at]} })).If(some),
		view.Act("a", "all", show(func() { p.view.services = nil })),
		view.Act("enter", "done", func() tea.Cmd {
			p.view.Show(nil)
			return nil
		}),
		panel.Leave(p.view.Env, "done").Hushed(),
	}
}

// Type ignores other keys.
func (*picker) Type(tea.KeyPressMsg) tea.Cmd { return nil }

func (p *picker) toggle(names []string) {
	shown := p.view.services
	if len(shown) == 0 {
		shown = slices.Clone(names)
	}
	if i := slices.Index(shown, names[p.at]); i >= 0 {
		shown = slices.Delete(slices.Clone(shown), i, i+1)
	} else {
		shown = append(shown, names[p.at])
	}
	if len(shown) == len(names) || len(shown) == 0 {
		shown = nil
	}
	p.view.services = shown
}
