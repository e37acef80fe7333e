package shell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// keyRows are the rows of the key bar.
const keyRows = 1

// View draws the screen.
func (m *Model) View() tea.View {
	title := "Neighbour"
	if m.state.Overview.Project != "" {
		title = m.state.Overview.Project + " · Neighbour"
	}
	return m.ground.Screen(m.Lines(), title)
}

// Lines returns the lines of the screen.
func (m *Model) Lines() []string {
	switch {
	case m.state.Width == 0:
		return nil
	case !m.roomy():
		return m.tooSmall()
	}
	drawn := m.view.Render()
	body := ui.Fill(drawn.Lines, m.rows())
	for i, l := range body {
		body[i] = display.Truncate(l, m.state.Width)
	}
	if m.panel != nil {
		body = ui.Overlay(body, m.panel.Render(), m.state.Width)
	}
	head, _ := m.header(drawn.Note)
	bar, _ := m.keyBar()
	return append(append(head, body...), bar)
}

func (m *Model) tooSmall() []string {
	text := fmt.Sprintf("Neighbour needs a terminal of %d × %d; this one has %d × %d. Make it larger", MinWidth, MinHeight, m.state.Width, m.state.Height)
	if m.client != nil {
		text += `, or leave with q and use "neighbour status".`
	} else {
		text += ", or leave with q and take the proposal as it is: neighbour init --yes"
	}
	lines := display.Wrap(text, m.state.Width)
	return lines[:min(len(lines), m.state.Height)]
}

// rows returns how many rows the view has.
func (m *Model) rows() int {
	n := m.state.Height - keyRows - 1
	if len(m.opts.Views) > 1 {
		n--
	}
	if m.notice() != "" {
		n--
	}
	return n
}

// header returns the project with how its services are, the row of views, and
// what must be known before anything else.
func (m *Model) header(note string) ([]string, []view.Spot) {
	out := []string{m.first(note)}
	var spots []view.Spot
	if len(m.opts.Views) > 1 {
		var row string
		row, spots = m.viewRow()
		out = append(out, row)
	}
	if n := m.notice(); n != "" {
		out = append(out, n)
	}
	return out, spots
}

// first returns the project, how many services are in which state, and how long
// the start takes or took.
func (m *Model) first(note string) string {
	t, width := m.Theme(), m.state.Width
	o := m.state.Overview
	left := "  " + t.Paint(ui.Strong, o.Project)
	if note != "" {
		left += t.Paint(ui.Faint, " · ") + note
	}
	right := m.summary(false)
	if display.Width(right)+display.Width(o.Project)+8 > width {
		right = m.summary(true)
	}
	took := ""
	switch {
	case m.state.Lost:
		right = t.Paint(ui.Bad, "✖ the keeper does not answer; trying again")
	case !o.Began.IsZero() && o.Took == 0:
		took = t.Paint(ui.Plain, fmt.Sprintf("%9s", words.Span(m.state.Now.Sub(o.Began))))
	case o.Took > 0:
		took = t.Paint(ui.Faint, "   start took ") + t.Paint(ui.Plain, words.Millis(float64(o.Took.Milliseconds())))
	}
	if display.Width(left)+display.Width(right)+display.Width(took)+3 <= width {
		right += took
	}
	if free := width - display.Width(right) - 2; display.Width(left) > free {
		left = display.Truncate(left, free)
	}
	return left + strings.Repeat(" ", max(1, width-display.Width(left)-display.Width(right)-2)) + right
}

// viewRow lists the views, the open one marked. Where there is no room they stand
// closer, and then the others are their keys alone, from the right.
func (m *Model) viewRow() (string, []view.Spot) {
	t := m.Theme()
	type tab struct{ key, text string }
	var specs []view.Spec
	var tabs []tab
	for _, s := range m.opts.Views {
		if s.Key == "" && s.ID != m.spec.ID { // another view opens it
			continue
		}
		text := s.Title
		if s.Count != nil {
			if n := s.Count(&m.state); n != "" {
				text += " " + n
			}
		}
		specs, tabs = append(specs, s), append(tabs, tab{s.Key, text})
	}
	label := func(b tab) string { return strings.TrimSpace(b.key + " " + b.text) }
	gap := 2 // between them
	length := func() int {
		n := 1
		for _, b := range tabs {
			n += display.Width(label(b)) + 2 + gap
		}
		return n - gap
	}
	// What is under way is said beside them, where the screen is not narrow.
	doing, room := m.doing(), m.state.Width
	if doing != "" && room >= 100 {
		room -= min(display.Width(doing), 40) + 3
	}
	for gap > 0 && length() > room {
		gap--
	}
	for i := len(tabs) - 1; i >= 0 && length() > room; i-- {
		if specs[i].ID != m.spec.ID {
			tabs[i].text = ""
		}
	}
	out, x := " ", 1
	var spots []view.Spot
	for i, b := range tabs {
		s := specs[i]
		says := label(b)
		if s.ID == m.spec.ID {
			out += t.Paint(ui.Accent, "["+says+"]")
		} else {
			out += " " + t.Paint(ui.Plain, b.key) + t.Paint(ui.Faint, strings.TrimPrefix(says, b.key)) + " "
		}
		if i < len(tabs)-1 {
			out += strings.Repeat(" ", gap)
		}
		wide := display.Width(says) + 2
		spots = append(spots, view.Spot{X: x, Y: 1, Width: wide, Height: 1, Click: func() tea.Cmd { return m.Turn(s.ID, nil) }})
		x += wide + gap
	}
	if free := m.state.Width - x - 2; free > 24 {
		if doing = display.Truncate(doing, free); doing != "" {
			out += strings.Repeat(" ", free-display.Width(doing)) + t.Paint(ui.Busy, doing)
		}
	}
	return display.Truncate(out, m.state.Width), spots
}

// doing says what is under way, other than the start whose time stands above,
// and who asked for it; "" for nothing.
func (m *Model) doing() string {
	var now []keep.Operation
	for _, o := range m.state.Overview.Operations {
		if !o.State.Over() {
			now = append(now, o)
		}
	}
	if len(now) == 0 {
		return ""
	}
	o := now[len(now)-1]
	text := "◑ " + o.String()
	switch {
	case o.State == keep.OperationWaits:
		text = "◌ " + o.String() + " waits " + o.Reason
	case o.Says != "":
		text += ", " + o.Says
	case o.Does == keep.Start && len(o.Services) > 1:
		text = fmt.Sprintf("◐ %s, %d ready", o, o.Ready)
	}
	if n := len(now) - 1; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return display.Plain(text + " · " + o.By)
}

// notice returns what must be known before anything else, "" for nothing.
func (m *Model) notice() string {
	t, o := m.Theme(), m.state.Overview
	switch {
	case o.Mistake != "":
		return "  " + t.Paint(ui.Bad, "✖ "+display.Truncate("a mistake, so nothing is changed: "+display.Plain(o.Mistake), m.state.Width-6))
	case o.Branch.Differs():
		return "  " + t.Paint(ui.Warn, "▲ "+display.Truncate(display.Plain(fmt.Sprintf("the branch %s is checked out, and the data is that of %s; 7 checks can switch it", o.Branch.Now, o.Branch.Data)), m.state.Width-6))
	case o.Changed:
		where := " shows what that means for what runs"
		if m.spec.ID != m.opts.Views[0].ID {
			where = " on the " + m.opts.Views[0].Title + where
		}
		return "  " + t.Paint(ui.Warn, "▲ neighbour.toml has changed: ") + t.Paint(ui.Accent, "a") + t.Paint(ui.Warn, where)
	case o.LANURL != "":
		return "  " + t.Paint(ui.Warn, "▲ "+display.Truncate("lan = true: whoever is in this machine's network can open "+o.LANURL, m.state.Width-6))
	case o.Warning != "":
		return "  " + t.Paint(ui.Warn, "▲ "+display.Truncate(display.Plain(o.Warning), m.state.Width-6))
	}
	return ""
}

// summary counts the services by state, in a tight place without the words.
func (m *Model) summary(tight bool) string {
	t := m.Theme()
	counts := map[supervise.State]int{}
	ready := 0
	for _, s := range m.state.Services {
		counts[s.Shown()]++
		if good(s.Shown()) {
			ready++
		}
	}
	if len(m.state.Services) == 0 {
		return ""
	}
	out := t.Paint(ui.Strong, fmt.Sprintf("%d of %d ready", ready, len(m.state.Services)))
	for _, state := range []supervise.State{supervise.Preparing, supervise.Starting, supervise.Waiting, supervise.Stopping, supervise.Held, supervise.Ailing, supervise.Failed, supervise.Stopped} {
		if n := counts[state]; n > 0 {
			text := fmt.Sprintf("%s %d %s", signs.State(state), n, state)
			if tight {
				text = fmt.Sprintf("%s %d", signs.State(state), n)
			}
			out += t.Paint(ui.Faint, " · ") + t.Paint(view.StateInk(state), text)
		}
	}
	return out
}

// keyBar lists the keys that work now, or shows a note.
func (m *Model) keyBar() (string, []view.Spot) {
	t := m.Theme()
	if m.flash != "" && time.Now().Before(m.flashUntil) {
		in := ui.Plain
		if m.flashBad {
			in = ui.Bad
		}
		return "  " + t.Paint(in, display.Truncate(display.Plain(m.flash), m.state.Width-4)), nil
	}
	keys := slices.DeleteFunc(slices.Clone(m.keys()), func(b view.Binding) bool { return b.Quiet || !b.Enabled() })
	width := func() int {
		n := 1
		for _, b := range keys {
			n += 3 + display.Width(b.Label()) + display.Width(b.Does())
		}
		return n
	}
	// What doesn't fit is left to the help, what is asked for least first.
	for len(keys) > 0 && width() > m.state.Width {
		at := 0
		for i, b := range keys {
			if b.Yield > keys[at].Yield {
				at = i
			}
		}
		keys = slices.Delete(keys, at, at+1)
	}
	out, x := " ", 1
	var spots []view.Spot
	for _, b := range keys {
		wide := 1 + display.Width(b.Label()) + 1 + display.Width(b.Does())
		out += " " + t.Paint(ui.Accent, b.Label()) + " " + t.Paint(ui.Faint, b.Does()) + " "
		if all := b.Keys(); b.Do != nil && len(all) == 1 {
			spots = append(spots, view.Spot{X: x, Y: m.state.Height - 1, Width: wide, Height: 1, Click: func() tea.Cmd { return b.Do(all[0]) }})
		}
		x += wide + 1
	}
	return out, spots
}
