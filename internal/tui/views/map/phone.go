package mapview

import (
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// phone is the panel with the address that others in this machine's network open.
type phone struct{ *view.Env }

func newPhone(e *view.Env) *phone { return &phone{e} }

// Render draws the address as a QR code, where there is room for it, and says who can use it.
func (p *phone) Render() []string {
	t := p.Theme()
	address := p.Overview.LANURL
	lines := []string{""}
	code, err := display.QR(address)
	if err == nil && len(code)+9 <= p.Height {
		for _, l := range code {
			lines = append(lines, "  "+t.Paint(ui.Print, l))
		}
		lines = append(lines, "")
	}
	lines = append(lines, t.Paint(ui.Strong, address), "")
	for _, l := range display.Wrap("Whoever is in this machine's network can open it, without TLS, and do what its pages let one do. Without lan = true nobody else can.", min(60, p.Width-12)) {
		lines = append(lines, t.Paint(ui.Warn, l))
	}
	return t.Frame("For a phone in this network", append(lines, "", t.Paint(ui.Accent, "esc")+" "+t.Paint(ui.Plain, "close")), p.Width)
}

// Bindings are the keys of the panel.
func (p *phone) Bindings() []view.Binding { return []view.Binding{panel.Leave(p.Env, "close")} }

// Type ignores other keys.
func (*phone) Type(tea.KeyPressMsg) tea.Cmd { return nil }
