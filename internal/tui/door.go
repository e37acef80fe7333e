package tui

import (
	"cmp"
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/api"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/keep"
)

// drawDoorstep draws what there is to know about the selected service, in
// the given number of rows.
func (m *model) drawDoorstep(rows int) []string {
	s, ok := m.services[m.selected]
	t := m.theme
	if !ok {
		return append([]string{t.paint(line, strings.Repeat("─", m.width))}, make([]string, rows-1)...)
	}
	title := " " + s.Name + " "
	about := s.About
	if s.Version != "" {
		about += " " + s.Version
	}
	if s.PID != 0 {
		about += fmt.Sprintf(", pid %d", s.PID)
	}
	if s.Optional {
		about += ", optional"
	}
	head := t.paint(line, "──") + t.paint(accent, title) + t.paint(faint, about+" ")
	head += t.paint(line, strings.Repeat("─", max(0, m.width-2-Width(title)-Width(about)-1)))

	split := m.width/2 - 1
	left := m.doorstepLeft(s, split-3, rows-1)
	right := m.doorstepRight(s, m.width-split-3, rows-1)
	out := []string{Truncate(head, m.width)}
	for i := range rows - 1 {
		out = append(out, "  "+pad(left[i], split-3)+" "+t.paint(line, "│")+" "+right[i])
	}
	return out
}

// pad fills a line with blanks, or cuts it, to a width.
func pad(s string, width int) string {
	if w := Width(s); w < width {
		return s + strings.Repeat(" ", width-w)
	}
	return Truncate(s, width)
}

// doorstepLeft says how the service is and why, and how to reach it.
func (m *model) doorstepLeft(s api.Status, width, rows int) []string {
	t := m.theme
	in := stateInk(s.State)
	var out []string
	for i, l := range wrap(Plain(s.Sentence(m.now)), width-2) {
		mark := "  "
		if i == 0 {
			mark = t.paint(in, Shape(s.State)) + " "
		}
		out = append(out, mark+t.paint(plain, l))
	}
	for _, remark := range s.Remarks {
		for _, l := range wrap(Plain(remark), width-4) {
			out = append(out, t.paint(line, "  ┊ ")+t.paint(faint, l))
		}
	}
	out = append(out, m.tries(s, width)...)
	facts := m.facts(s, width)
	if s.State == keep.Failed || s.State == keep.Ailing { // the reason comes first
		facts = facts[:min(len(facts), max(1, rows-len(out)-1))]
	}
	// How to reach it must be seen even where the reason is long.
	if spare := rows - len(facts); len(out) > spare && spare > 1 {
		out = append(out[:spare-1], t.paint(faint, "  …"))
	} else if len(out) < spare-1 {
		out = append(out, "")
	}
	out = append(out, facts...)
	for len(out) < rows {
		out = append(out, "")
	}
	return out[:rows]
}

// tries tells how the latest lives of a service ended, if there were several.
func (m *model) tries(s api.Status, width int) []string {
	if len(s.Tries) < 2 || s.State == keep.Ready {
		return nil
	}
	var out []string
	for i, try := range s.Tries {
		text := fmt.Sprintf("try %d  %s  %s", i+1, try.Began.Local().Format("15:04:05"), Plain(try.Reason))
		if n := len(try.Lines); n > 0 {
			text += ": " + Plain(try.Lines[n-1])
		}
		out = append(out, m.theme.paint(line, "  ┊ ")+m.theme.paint(faint, Truncate(text, width-4)))
	}
	return out
}

// facts returns the lines with the address, the credentials, and what it needs.
func (m *model) facts(s api.Status, width int) []string {
	t := m.theme
	const label = 11
	var out []string
	row := func(name, value string, in ink) {
		// An address is of no use with its end cut off.
		for _, l := range strings.Split(ansi.Hardwrap(Plain(value), width-label, true), "\n") {
			text := t.paint(in, l)
			if strings.HasPrefix(value, "http://") || strings.HasPrefix(value, "https://") {
				// Terminals that can't follow links leave them out (OSC 8).
				text = t.style[in].Hyperlink(Plain(value)).Render(l)
			}
			out = append(out, t.paint(faint, fmt.Sprintf("%-*s", label, name))+text)
			name = ""
		}
	}
	// The first fact is the whole address; its parts are worth a line only
	// where there is nothing else.
	for i, f := range s.Facts {
		if i > 0 && (f.Name == "host" || f.Name == "port" || f.Name == "database") {
			continue
		}
		// A user's password is in the user's address, and that of the first
		// user is there already.
		if strings.HasSuffix(f.Name, ".password") || strings.HasSuffix(f.Name, ".url") && f.Value == s.Facts[0].Value {
			continue
		}
		row(f.Name, m.masked(f), strong)
	}
	for i, n := range s.Notes {
		name := ""
		if i == 0 {
			name = "holds"
		}
		row(name, n, plain)
	}
	switch f, found := m.finding(s.Name); {
	case found && s.State == keep.Failed:
		row("found", "7 shows what can be done about it", accent)
	case found:
		row("found", LevelShape(f.Level)+" "+f.What+"  (7)", levelInk(f.Level))
	}
	if s.Exposed != "" {
		row("network", "other machines can reach it: it listens on "+s.Exposed, stateWarn)
	}
	if s.Unwatched != "" {
		row("reload", "looks at its files every 2 s instead of watching them: "+s.Unwatched, stateWarn)
	}
	for i, w := range s.Warnings {
		name := ""
		if i == 0 {
			name = "note"
		}
		row(name, w, plain)
	}
	if s.Check != "" {
		row("check", s.Check, plain)
	}
	if s.Command != "" {
		row("runs", s.Command, plain)
	}
	if len(s.Needs) > 0 {
		row("needs", strings.Join(s.Needs, ", "), plain)
	}
	if len(s.NeededBy) > 0 {
		row("needed by", strings.Join(s.NeededBy, ", "), plain)
	}
	return out
}

// masked returns a fact's value as it may be shown now.
func (m *model) masked(f keep.Fact) string {
	if !f.Secret || m.reveal {
		return f.Value
	}
	return Mask(f.Value)
}

// Mask hides the secret in a value: the password of an address, or all of
// what is no address.
func Mask(value string) string {
	const dots = "••••••••"
	scheme, rest, ok := strings.Cut(value, "://")
	if !ok {
		return dots
	}
	at := strings.LastIndexByte(rest, '@')
	colon := strings.IndexByte(rest, ':')
	if at < 0 || colon < 0 || colon > at {
		return dots
	}
	return scheme + "://" + rest[:colon+1] + dots + rest[at:]
}

// doorstepRight returns the latest output, and what the service uses.
func (m *model) doorstepRight(s api.Status, width, rows int) []string {
	t := m.theme
	out := []string{t.paint(faint, "latest lines")}
	room := rows - 2
	if rows > 10 {
		room-- // a blank before the usage
	}
	lines := s.Lines[max(0, len(s.Lines)-room):]
	if len(lines) == 0 {
		out = append(out, t.paint(faint, "nothing printed yet"))
	}
	for _, l := range lines {
		at := "        "
		if !l.At.IsZero() {
			at = l.At.Local().Format("15:04:05")
		}
		out = append(out, t.paint(faint, at)+"  "+Truncate(m.latest(l), width-10))
	}
	for len(out) < rows-1 {
		out = append(out, "")
	}
	return append(out[:rows-1], m.usage(s, width))
}

// latest returns a line without what is said beside it.
func (m *model) latest(l journal.Line) string {
	text := m.output(cmp.Or(l.Message, l.Text))
	if l.Level >= journal.Warn {
		text = m.theme.paint(levelInkOf(l.Level), l.Level.String()) + " " + text
	}
	return text
}

// output returns a line that a service printed, as it may be drawn.
func (m *model) output(text string) string {
	text = Clean(text)
	if !strings.Contains(text, "\x1b") {
		return m.theme.paint(plain, text)
	}
	return text
}

func (m *model) usage(s api.Status, width int) string {
	t := m.theme
	if len(s.Usage.CPU) == 0 {
		if !s.State.Running() {
			return ""
		}
		return t.paint(faint, Truncate("processor and memory are measured every 2 s", width))
	}
	graph := max(2, min(16, (width-38)/2))
	cpu := make([]float64, len(s.Usage.CPU))
	for i, v := range s.Usage.CPU {
		cpu[i] = float64(v)
	}
	memory := make([]float64, len(s.Usage.Memory))
	for i, v := range s.Usage.Memory {
		memory[i] = float64(v)
	}
	// Below a tenth of a core and 64 MB the lines stay low: the flicker of
	// what is idle should not look like work.
	text := t.paint(faint, "processor ") + t.paint(stateBusy, spark(cpu, graph, 10)) + t.paint(plain, fmt.Sprintf(" %.1f %%", cpu[len(cpu)-1])) +
		t.paint(faint, "  memory ") + t.paint(stateBusy, spark(memory, graph, 64<<20)) + t.paint(plain, " "+bytes(memory[len(memory)-1]))
	return Truncate(text, width)
}

var levels = []rune("▁▂▃▄▅▆▇█")

// spark draws the latest values as a line of bars, the highest value or at
// least the given one as the full height.
func spark(values []float64, width int, least float64) string {
	values = values[max(0, len(values)-width):]
	top := least
	for _, v := range values {
		top = max(top, v)
	}
	out := []rune(strings.Repeat("·", width-len(values)))
	for _, v := range values {
		level := 0
		if top > 0 {
			level = int(v / top * float64(len(levels)-1))
		}
		out = append(out, levels[level])
	}
	return string(out)
}

func bytes(n float64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GB", n/(1<<30))
	case n >= 100<<20:
		return fmt.Sprintf("%.0f MB", n/(1<<20))
	}
	return fmt.Sprintf("%.1f MB", n/(1<<20))
}

// wrap breaks a text into lines at blanks.
func wrap(s string, width int) []string {
	return strings.Split(lipgloss.Wrap(s, max(8, width), ""), "\n")
}
