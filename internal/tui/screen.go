package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keep"
)

// View draws the screen.
func (m *model) View() tea.View {
	title := "Neighbour"
	if m.overview.Project != "" {
		title = m.overview.Project + " · Neighbour"
	}
	return m.view(m.screen(), title)
}

func (m *model) screen() []string {
	switch {
	case m.width == 0:
		return nil
	case m.width < minWidth || m.height < minHeight:
		return m.tooSmall()
	}
	var body []string
	rows := m.height - headerRows - keyRows
	switch {
	case m.page != nil:
		body = m.page.draw(m, rows)
		for i, l := range body {
			body[i] = Truncate(l, m.width)
		}
	default:
		body = m.mapAndDoorstep(rows)
	}
	if m.panel != nil {
		body = m.overlay(body, m.panel.draw(m))
	}
	out := append(m.header(), body...)
	for len(out) < m.height-keyRows {
		out = append(out, "")
	}
	return append(out[:m.height-keyRows], m.keyBar())
}

func (m *model) tooSmall() []string {
	text := fmt.Sprintf(`Neighbour needs a terminal of %d × %d; this one has %d × %d. Make it larger, or leave with q and use "neighbour status".`, minWidth, minHeight, m.width, m.height)
	lines := wrap(text, m.width)
	return lines[:min(len(lines), m.height)]
}

func (m *model) mapAndDoorstep(rows int) []string {
	v := m.arrange()
	mapRows := min(max(v.rows, 4)+1, rows-doorstepRows)
	return append(m.drawMap(mapRows), m.drawDoorstep(rows-mapRows)...)
}

// header returns the project, how many services are in which state, and how long
// the start takes or took.
func (m *model) header() []string {
	t := m.theme
	leftSide := "  " + t.paint(strong, m.overview.Project)
	if m.page != nil {
		leftSide += t.paint(faint, " · ") + t.paint(accent, m.page.title())
	}
	if m.filter != "" || m.filtering {
		cursor := ""
		if m.filtering {
			cursor = "▏"
		}
		leftSide += t.paint(faint, "   only ") + t.paint(accent, m.filter+cursor)
	}
	right := m.summary(false)
	if Width(right)+Width(m.overview.Project)+8 > m.width {
		right = m.summary(true)
	}
	took := ""
	switch {
	case m.lost:
		right = t.paint(stateBad, "✖ the keeper does not answer; trying again")
	case !m.overview.Began.IsZero() && m.overview.Took == 0:
		took = t.paint(plain, fmt.Sprintf("%9s", keep.Span(m.now.Sub(m.overview.Began))))
	case m.overview.Took > 0:
		took = t.paint(faint, "   start took ") + t.paint(plain, keep.Millis(float64(m.overview.Took.Milliseconds())))
	}
	if Width(leftSide)+Width(right)+Width(took)+3 <= m.width {
		right += took
	}
	if free := m.width - Width(right) - 2; Width(leftSide) > free {
		leftSide = Truncate(leftSide, free)
	}
	gap := max(1, m.width-Width(leftSide)-Width(right)-2)
	second := ""
	switch {
	case m.overview.Mistake != "":
		second = "  " + t.paint(stateBad, "✖ "+Truncate("a mistake, so nothing is changed: "+Plain(m.overview.Mistake), m.width-6))
	case m.overview.Changed:
		second = "  " + t.paint(stateWarn, "▲ neighbour.toml has changed: ") + t.paint(accent, "a") + t.paint(stateWarn, " shows what that means for what runs")
	case m.overview.Warning != "":
		second = "  " + t.paint(stateWarn, "▲ "+Truncate(Plain(m.overview.Warning), m.width-6))
	}
	return []string{leftSide + strings.Repeat(" ", gap) + right, second}
}

// summary counts the services by state, in a tight place without the words.
func (m *model) summary(tight bool) string {
	t := m.theme
	counts := map[keep.State]int{}
	good := 0
	for _, s := range m.services {
		counts[s.State]++
		if s.State == keep.Ready || s.State == keep.Finished {
			good++
		}
	}
	if len(m.services) == 0 {
		return ""
	}
	out := t.paint(strong, fmt.Sprintf("%d of %d ready", good, len(m.services)))
	for _, state := range []keep.State{keep.Preparing, keep.Starting, keep.Waiting, keep.Stopping, keep.Ailing, keep.Failed, keep.Stopped} {
		if n := counts[state]; n > 0 {
			text := fmt.Sprintf("%s %d %s", Shape(state), n, state)
			if tight {
				text = fmt.Sprintf("%s %d", Shape(state), n)
			}
			out += t.paint(faint, " · ") + t.paint(stateInk(state), text)
		}
	}
	return out
}

// keyBar lists the keys that work now, or shows a note.
func (m *model) keyBar() string {
	t := m.theme
	if m.flash != "" && time.Now().Before(m.flashUntil) {
		in := plain
		if m.flashBad {
			in = stateBad
		}
		return "  " + t.paint(in, Truncate(Plain(m.flash), m.width-4))
	}
	bindings := m.bindings()
	bar := func() string {
		out := " "
		for _, b := range bindings {
			out += " " + t.paint(accent, b.key) + " " + t.paint(faint, b.does) + " "
		}
		return out
	}
	// What doesn't fit is left to the help, what is asked for least first.
	for len(bindings) > 0 && Width(bar()) > m.width {
		least := slices.MaxFunc(bindings, func(a, b binding) int { return a.spare - b.spare })
		bindings = slices.DeleteFunc(bindings, func(b binding) bool { return b == least })
	}
	return bar()
}

// overlay puts a panel into the middle of the body.
func (m *model) overlay(body, box []string) []string {
	if len(box) == 0 {
		return body
	}
	width := 0
	for _, l := range box {
		width = max(width, Width(l))
	}
	x := max(0, (m.width-width)/2)
	y := max(0, (len(body)-len(box))/3)
	out := append([]string(nil), body...)
	for i, l := range box {
		if y+i >= len(out) {
			break
		}
		under := pad(out[y+i], m.width)
		right := cut(under, x+width, m.width)
		if Width(right) > m.width-x-width { // half of a wide character
			right = " " + cut(under, x+width+1, m.width)
		}
		out[y+i] = pad(cut(under, 0, x), x) + pad(l, width) + right
	}
	return out
}
