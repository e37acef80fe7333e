package mapview

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// askChanges asks the keeper what a changed declaration means, and then whether
// to apply it.
func askChanges(e *view.Env) tea.Cmd {
	return e.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		effects, err := c.Changes(ctx)
		return func() tea.Cmd {
			e.Show(&changes{e, effects})
			return nil
		}, err
	})
}

// changes shows what a changed declaration means, and asks whether to apply it.
type changes struct {
	env     *view.Env
	effects []insight.Effect
}

// Render draws the panel.
func (c *changes) Render() []string {
	t := c.env.Theme()
	width := min(90, c.env.Width-14)
	var lines []string
	room := max(3, c.env.Height-11)
	shown := 0
	for _, e := range c.effects {
		if (e.Does == insight.Keeps || e.Does == insight.Rests) && e.Why == "" {
			continue
		}
		if shown++; shown > room {
			continue
		}
		in := map[string]ui.Ink{insight.Starts: ui.Good, insight.Stops: ui.Bad, insight.Restarts: ui.Busy, insight.Keeps: ui.Faint, insight.Rests: ui.Faint}[e.Does]
		lines = append(lines, display.Truncate(t.Paint(ui.Strong, display.Pad(display.Truncate(e.Service, 15), 16))+t.Paint(in, display.Pad(e.InWords(), 10))+t.Paint(ui.Plain, display.Plain(e.Why)), width))
		if e.Refused != "" {
			lines = append(lines, display.Truncate(display.Pad("", 16)+t.Paint(ui.Bad, "could not start: "+display.Plain(e.Refused)), width))
		}
	}
	if shown > room {
		lines = append(lines, t.Paint(ui.Faint, fmt.Sprintf("and %d more", shown-room)))
	}
	lines = append(lines, "", t.Paint(ui.Plain, display.Truncate(insight.Summary(c.effects)+"; data is kept", width)), "",
		t.Paint(ui.Accent, "enter")+" "+t.Paint(ui.Plain, "do it")+"   "+t.Paint(ui.Accent, "esc")+" "+t.Paint(ui.Plain, "leave everything as it is"))
	return t.Frame("What neighbour.toml means now", lines, c.env.Width)
}

// Bindings are the answers.
func (c *changes) Bindings() []view.Binding {
	return []view.Binding{
		view.Act("enter", "do it", func() tea.Cmd {
			c.env.Show(nil)
			return c.env.Apply()
		}),
		panel.Leave(c.env, "leave as it is"),
	}
}

// Type ignores other keys.
func (*changes) Type(tea.KeyPressMsg) tea.Cmd { return nil }
