package mapview

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// drawDoorstep draws what there is to know about the selected service, in
// the given number of rows.
func (v *mapView) drawDoorstep(rows int) []string {
	s, ok := v.Services[v.Selected]
	t := v.Theme()
	if !ok {
		return append([]string{t.Paint(ui.Line, strings.Repeat("─", v.width))}, make([]string, rows-1)...)
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
	head := t.Paint(ui.Line, "──") + t.Paint(ui.Accent, title) + t.Paint(ui.Faint, about+" ")
	head += t.Paint(ui.Line, strings.Repeat("─", max(0, v.width-2-display.Width(title)-display.Width(about)-1)))

	split := v.width/2 - 1
	left := v.doorstepLeft(s, split-3, rows-1)
	right := v.doorstepRight(s, v.width-split-3, rows-1)
	out := []string{display.Truncate(head, v.width)}
	for i := range rows - 1 {
		out = append(out, "  "+display.Pad(left[i], split-3)+" "+t.Paint(ui.Line, "│")+" "+right[i])
	}
	return out
}

// doorstepLeft says how the service is and why, and how to reach it.
func (v *mapView) doorstepLeft(s api.Status, width, rows int) []string {
	t := v.Theme()
	in := view.StateInk(s.Shown())
	var out []string
	for i, l := range display.Wrap(display.Plain(s.Sentence(v.Now)), width-2) {
		mark := "  "
		if i == 0 {
			mark = t.Paint(in, signs.State(s.Shown())) + " "
		}
		out = append(out, mark+t.Paint(ui.Plain, l))
	}
	for _, remark := range s.Remarks {
		for _, l := range display.Wrap(display.Plain(remark), width-4) {
			out = append(out, t.Paint(ui.Line, "  ┊ ")+t.Paint(ui.Faint, l))
		}
	}
	out = append(out, v.progress(s, width)...)
	out = append(out, v.tries(s, width)...)
	facts := v.facts(s, width)
	if s.Optional && (s.State == supervise.Failed || s.State == supervise.Ailing) {
		out = append(out, "  "+t.Paint(ui.Faint, "it is optional: others start without it"))
	}
	if s.State == supervise.Failed || s.State == supervise.Ailing { // the reason comes first
		facts = facts[:min(len(facts), max(1, rows-len(out)-1))]
	}
	// How to reach it must be seen even where the reason is long.
	if spare := rows - len(facts); len(out) > spare && spare > 1 {
		out = append(out[:spare-1], t.Paint(ui.Faint, "  …"))
	} else if len(out) < spare-1 {
		out = append(out, "")
	}
	out = append(out, facts...)
	if chart := v.answers(s, width, rows-len(out)-1); len(chart) > 0 {
		for len(out) < rows-len(chart) {
			out = append(out, "")
		}
		out = append(out, chart...)
	}
	for len(out) < rows {
		out = append(out, "")
	}
	return out[:rows]
}

// progress shows how far what is done on the way to the start is, against how long
// it took the last time.
func (v *mapView) progress(s api.Status, width int) []string {
	step, under := s.UnderWay()
	if !under || step.Usual == 0 {
		return nil
	}
	t := v.Theme()
	length := min(30, width-20)
	done := min(length, int(float64(v.Now.Sub(step.Began).Milliseconds())/step.Usual*float64(length)))
	return []string{"  " + t.Paint(ui.Busy, strings.Repeat("█", done)) + t.Paint(ui.Line, strings.Repeat("░", length-done))}
}

// answers draws how long the latest checks took, where there is room for it. One
// that failed is a gap, and is counted.
func (v *mapView) answers(s api.Status, width, rows int) []string {
	t := v.Theme()
	rows = min(rows, 6)
	if rows < 5 || width < 40 || len(s.Checks.Recent) < 5 {
		return nil
	}
	recent := s.Checks.Recent[max(0, len(s.Checks.Recent)-(width-ui.AxisWidth-2)):]
	values, failed, top := make([]float64, len(recent)), 0, 0.0
	for i, ms := range recent {
		if values[i] = float64(ms); ms < 0 {
			failed++
		}
		top = max(top, values[i])
	}
	text := fmt.Sprintf("how long the latest %s took", words.Count(len(recent), "check"))
	if failed > 0 {
		text += fmt.Sprintf("; %d failed", failed)
	}
	unit := 1.0
	if top < 2 {
		unit = 0.1
	}
	chart := ui.Chart{Values: values, Least: 1, Unit: unit, Rows: rows - 1, Ink: ui.Good, Cursor: -1, Label: func(ms float64) string { return fmt.Sprintf("%.3g ms", ms) }}
	return append([]string{t.Paint(ui.Faint, text)}, chart.Lines(t)...)
}

// tries tells how the latest lives of a service ended, if there were several.
func (v *mapView) tries(s api.Status, width int) []string {
	if len(s.Tries) < 2 || s.State == supervise.Ready {
		return nil
	}
	var out []string
	for i, try := range s.Tries {
		text := fmt.Sprintf("try %d  %s  %s", i+1, try.Began.Local().Format("15:04:05"), display.Plain(try.Reason))
		if n := len(try.Lines); n > 0 {
			text += ": " + display.Plain(try.Lines[n-1])
		}
		out = append(out, v.Theme().Paint(ui.Line, "  ┊ ")+v.Theme().Paint(ui.Faint, display.Truncate(text, width-4)))
	}
	return out
}

// facts returns the lines with the address, the credentials, and what it needs.
func (v *mapView) facts(s api.Status, width int) []string {
	t := v.Theme()
	label := 11
	for _, f := range s.Facts {
		if !strings.HasSuffix(f.Name, ".password") {
			label = max(label, min(len(f.Name)+1, 22))
		}
	}
	var out []string
	row := func(name, value string, in ui.Ink) {
		// An address is of no use with its end cut off.
		lines := strings.Split(ansi.Hardwrap(display.Plain(value), width-label, true), "\n")
		if strings.Contains(value, " ") { // words, and no address
			lines = display.Wrap(display.Plain(value), width-label)
		}
		for _, l := range lines {
			text := t.Paint(in, l)
			if strings.HasPrefix(value, "http://") || strings.HasPrefix(value, "https://") {
				// Terminals that can't follow links leave them out (OSC 8).
				text = t.Style[in].Hyperlink(display.Plain(value)).Render(l)
			}
			out = append(out, t.Paint(ui.Faint, fmt.Sprintf("%-*s", label, display.Truncate(name, label-1)))+text)
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
		row(f.Name, v.masked(f), ui.Strong)
	}
	for i, n := range s.Notes {
		name := ""
		if i == 0 {
			name = "holds"
		}
		row(name, n, ui.Plain)
	}
	switch f, found := v.Finding(s.Name); {
	case found && s.State == supervise.Failed && len(f.Actions) > 0: // beside, with their keys
	case found && s.State == supervise.Failed:
		row("found", signs.Level(f.Level)+" "+f.What, view.LevelInk(f.Level))
		row("do", f.Remedy, ui.Strong)
	case found:
		row("found", signs.Level(f.Level)+" "+f.What+"  (7)", view.LevelInk(f.Level))
	}
	if s.Exposed != "" {
		row("network", "other machines can reach it: it listens on "+s.Exposed, ui.Warn)
	}
	if s.Unwatched != "" {
		row("reload", "looks at its files every 2 s instead of watching them: "+s.Unwatched, ui.Warn)
	}
	for i, w := range s.Warnings {
		name := ""
		if i == 0 {
			name = "note"
		}
		row(name, w, ui.Plain)
	}
	if s.Check != "" {
		row("check", s.Check, ui.Plain)
	}
	if s.Command != "" {
		row("runs", s.Command, ui.Plain)
	}
	for i, r := range s.Runtimes {
		name := ""
		if i == 0 {
			name = "on"
		}
		row(name, fmt.Sprintf("%s %s from %s, for %s", r.Name, r.Version, r.Path, r.For), ui.Plain)
	}
	for i, step := range s.Done {
		name := ""
		if i == 0 {
			name = "before"
		}
		if step.Began.IsZero() {
			row(name, step.InWords(v.Now), ui.Plain)
		}
	}
	if names := v.errandsOf(s.Name); len(names) > 0 {
		row("errands", strings.Join(names, ", ")+"  (u)", ui.Plain)
	}
	if len(s.Needs) > 0 {
		row("needs", strings.Join(s.Needs, ", "), ui.Plain)
	}
	if len(s.NeededBy) > 0 {
		row("needed by", strings.Join(s.NeededBy, ", "), ui.Plain)
	}
	return out
}

// masked returns a fact's value as it may be shown now.
func (v *mapView) masked(f supervise.Fact) string {
	if !f.Secret || v.reveal {
		return f.Value
	}
	return display.Mask(f.Value)
}

// doorstepRight returns the latest output, and what the service uses.
func (v *mapView) doorstepRight(s api.Status, width, rows int) []string {
	t := v.Theme()
	out := v.remedyRows(s, width)
	out = append(out, t.Paint(ui.Faint, "latest lines"))
	room := rows - 1 - len(out)
	if rows > 10 {
		room-- // a blank before the usage
	}
	room = max(0, room)
	lines := s.Lines[max(0, len(s.Lines)-room):]
	if len(lines) == 0 {
		out = append(out, t.Paint(ui.Faint, "nothing printed yet"))
	}
	for _, l := range lines {
		at := "        "
		if !l.At.IsZero() {
			at = l.At.Local().Format("15:04:05")
		}
		out = append(out, t.Paint(ui.Faint, at)+"  "+display.Truncate(v.latest(l), width-10))
	}
	for len(out) < rows-1 {
		out = append(out, "")
	}
	return append(out[:rows-1], v.usage(s, width))
}

// remedyRows are what can be done about a failed service, each with its key.
func (v *mapView) remedyRows(s api.Status, width int) []string {
	f, found := v.Finding(s.Name)
	if !found || s.State != supervise.Failed || len(f.Actions) == 0 {
		return nil
	}
	t := v.Theme()
	out := []string{t.Paint(ui.Faint, "what can be done")}
	for i, a := range f.Actions {
		text := display.Truncate(display.Plain(a.Label+": "+a.Says), width-4)
		out = append(out, t.Paint(ui.Accent, remedyKey(i)+"  ")+t.Paint(ui.Plain, text))
	}
	return append(out, "")
}

// latest returns a line without what is said beside it.
func (v *mapView) latest(l journal.Line) string {
	text := v.output(cmp.Or(l.Message, l.Text))
	if l.Level >= journal.Warn {
		text = v.Theme().Paint(view.EntryInk(l.Level), l.Level.String()) + " " + text
	}
	return text
}

// output returns a line that a service printed, as it may be drawn.
func (v *mapView) output(text string) string {
	text = display.Clean(text)
	if !strings.Contains(text, "\x1b") {
		return v.Theme().Paint(ui.Plain, text)
	}
	return text
}

func (v *mapView) usage(s api.Status, width int) string {
	t := v.Theme()
	if len(s.Usage.CPU) == 0 {
		if !s.State.Running() {
			return ""
		}
		return t.Paint(ui.Faint, display.Truncate("processor and memory are measured every 2 s", width))
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
	text := t.Paint(ui.Faint, "processor ") + t.Paint(ui.Busy, ui.Spark(cpu, graph, 10)) + t.Paint(ui.Plain, fmt.Sprintf(" %.1f %%", cpu[len(cpu)-1])) +
		t.Paint(ui.Faint, "  memory ") + t.Paint(ui.Busy, ui.Spark(memory, graph, 64<<20)) + t.Paint(ui.Plain, " "+words.Bytes(uint64(memory[len(memory)-1])))
	return display.Truncate(text, width)
}
