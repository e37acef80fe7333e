package shell

import (
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/tui/view"
)

// bindings returns the keys of the shell itself.
func (m *Model) bindings() []view.Binding {
	var out []view.Binding
	for _, s := range m.opts.Views {
		if s.Key != "" {
			out = append(out, view.Act(s.Key, s.Title, func() tea.Cmd { return m.Turn(s.ID, nil) }).Hushed())
		}
	}
	first := m.opts.Views[0].ID
	whole := m.client != nil
	return append(out,
		view.Act("esc", "back to the "+m.opts.Views[0].Title, func() tea.Cmd { return m.Turn(first, nil) }).If(m.spec.ID != first).Hushed(),
		view.Act("ctrl+p", "find", m.find).Helps("find everything that can be done now").If(whole).Spare(1),
		view.Act("?", "help", m.help),
		view.Act("q", "leave", m.Leave).Helps("leave; services go on").If(whole),
		view.Act("Q", "stop all and leave", m.leaveStopped).If(whole).Spare(5),
	)
}

// keys returns the keys that work now, those of what is in front first.
func (m *Model) keys() []view.Binding {
	switch {
	case m.panel != nil:
		return m.panel.Bindings()
	case m.view.Typing():
		return m.view.Bindings()
	}
	return append(m.view.Bindings(), m.bindings()...)
}

// key takes a key.
func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	pressed := k.String()
	if pressed == "ctrl+c" {
		return tea.Quit
	}
	if !m.roomy() {
		if pressed == "q" {
			return tea.Quit
		}
		return nil
	}
	if m.asking {
		m.typed = append(m.typed, k)
		return nil
	}
	m.flash = ""
	cmd, done := view.Press(m.keys(), k)
	switch {
	case done:
		return cmd
	case m.panel != nil:
		return m.panel.Type(k)
	case m.view.Typing():
		return m.view.Update(k)
	}
	return nil
}

// click does what is under the mouse.
func (m *Model) click(msg tea.MouseClickMsg) tea.Cmd {
	if msg.Button != tea.MouseLeft || !m.roomy() {
		return nil
	}
	_, spots := m.keyBar()
	if m.panel == nil {
		_, above := m.header("")
		spots = append(spots, above...)
		for _, s := range m.view.Render().Spots {
			s.Y += m.state.Height - keyRows - m.rows()
			spots = append(spots, s)
		}
	}
	for _, s := range spots {
		if s.Hit(msg.X, msg.Y) {
			return s.Click()
		}
	}
	return nil
}
