package tui

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keep"
)

// changesMsg brings what a changed declaration means.
type changesMsg struct {
	effects []keep.Effect
	err     error
}

func (m *model) askChanges() tea.Cmd {
	m.asking = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		effects, err := client.Changes(ctx)
		return changesMsg{effects, err}
	}
}

// changes shows what a changed declaration means, and asks whether to apply it.
type changes struct{ effects []keep.Effect }

func (c *changes) draw(m *model) []string {
	t := m.theme
	width := min(90, m.width-14)
	var lines []string
	room := max(3, m.height-headerRows-keyRows-8)
	shown := 0
	for _, e := range c.effects {
		if (e.Does == keep.Keeps || e.Does == keep.Rests) && e.Why == "" {
			continue
		}
		if shown++; shown > room {
			continue
		}
		in := map[string]ink{keep.Starts: stateGood, keep.Stops: stateBad, keep.Restarts: stateBusy, keep.Keeps: faint, keep.Rests: faint}[e.Does]
		lines = append(lines, Truncate(t.paint(strong, pad(Truncate(e.Service, 15), 16))+t.paint(in, pad(e.InWords(), 10))+t.paint(plain, Plain(e.Why)), width))
		if e.Refused != "" {
			lines = append(lines, Truncate(pad("", 16)+t.paint(stateBad, "could not start: "+Plain(e.Refused)), width))
		}
	}
	if shown > room {
		lines = append(lines, t.paint(faint, fmt.Sprintf("and %d more", shown-room)))
	}
	lines = append(lines, "", t.paint(plain, Truncate(keep.Summary(c.effects)+"; data is kept", width)), "",
		t.paint(accent, "enter")+" "+t.paint(plain, "do it")+"   "+t.paint(accent, "esc")+" "+t.paint(plain, "leave everything as it is"))
	return m.frame("What neighbour.toml means now", lines)
}

func (c *changes) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		m.panel = nil
		return m.apply()
	case "esc", "q":
		m.panel = nil
	}
	return nil
}

func (*changes) bindings() []binding {
	return []binding{key("enter", "do it"), key("esc", "leave as it is")}
}

// apply has the declaration applied, and waits for the keeper that has read
// it.
func (m *model) apply() tea.Cmd {
	m.say("applying the declaration", false)
	m.refreshing = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, stopLimit)
		defer cancel()
		if _, err := client.Apply(ctx); err != nil {
			return refreshedMsg{err}
		}
		for {
			c, err := m.opts.Connect(ctx)
			if err == nil {
				var k api.Keeper
				if k, err = c.Hello(ctx); err == nil && !k.Stale {
					events, err := c.Events(m.ctx)
					return connectedMsg{c, events, err}
				}
				c.Close()
			}
			select {
			case <-ctx.Done():
				return connectedMsg{err: ctx.Err()}
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
}
