package usage

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
)

func (v *screen) lines() []string {
	t := v.Theme()
	switch {
	case v.err != "":
		return ui.Fill([]string{"", "  " + t.Paint(ui.Bad, v.err)}, v.Rows)
	case !v.loaded:
		return ui.Fill([]string{"", "  " + t.Paint(ui.Faint, "asking the keeper")}, v.Rows)
	}
	out := v.head()
	large := min(12, max(4, v.Rows/3)) // the rows of the chart
	room := max(2, v.Rows-len(out)-large-5)
	out = append(out, v.table(room)...)
	for len(out) < v.Rows-large-4 {
		out = append(out, "")
	}
	return ui.Fill(append(out, v.large(large)...), v.Rows)
}

// head says in words who uses most, and which period is shown.
func (v *screen) head() []string {
	t := v.Theme()
	choice := ""
	for i, p := range periods {
		in, text := ui.Faint, " "+p.name+" "
		if i == v.period {
			in, text = ui.Accent, "["+p.name+"]"
		}
		choice += t.Paint(in, text)
	}
	width := max(10, v.Columns-6-display.Width(choice))
	var out []string
	for i, l := range display.Wrap(v.report.Summary, width) {
		line := "  " + t.Paint(ui.Strong, display.Pad(l, width)) + "  "
		if i == 0 {
			line += choice
		}
		out = append(out, line)
	}
	if len(out) == 0 {
		out = []string{"  " + choice}
	}
	return append(out[:min(2, len(out))], "")
}

// table lists the machine and the services, each with what it uses now and a chart
// of the period.
func (v *screen) table(rows int) []string {
	t := v.Theme()
	all := v.rows()
	name := 9
	for _, s := range all {
		name = max(name, min(18, display.Width(s.Service)))
	}
	chart := max(6, min(60, (v.Columns-name-34)/2))
	out := []string{"  " + t.Paint(ui.Faint, fmt.Sprintf("%s  %9s  %s  %12s", strings.Repeat(" ", name), "processor", strings.Repeat(" ", chart), "memory"))}
	shown := max(1, rows-1)
	at := v.at(all)
	first := min(max(0, at-shown/2), max(0, len(all)-shown))
	least := 0.0 // one scale for the memory of all, so that they can be compared
	for _, s := range all[1:] {
		least = max(least, slices.Max(append(s.Memory, 0)))
	}
	for i := first; i < min(len(all), first+shown); i++ {
		s := all[i]
		mark, in, title := "  ", ui.Plain, s.Service
		if s.Service == usage.Machine {
			title, in = "machine", ui.Faint
		}
		if i == at {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		line := mark + t.Paint(in, display.Pad(display.Truncate(title, name), name)) + "  "
		if i > 0 && s.Now.Processes == 0 {
			out = append(out, line+t.Paint(ui.Faint, fmt.Sprintf("%9s  %s  %12s  %s", "-", spark(s.Peak, chart, 100), "-", spark(s.Memory, chart, least))))
			continue
		}
		memory, top := words.Bytes(s.Now.Memory), least
		full := 100.0
		if i == 0 {
			memory, top, full = fmt.Sprintf("%.1f of %.0f GB", float64(s.Now.Memory)/(1<<30), float64(v.report.Memory)/(1<<30)), float64(v.report.Memory), 100*float64(v.report.Cores)
		}
		out = append(out, line+t.Paint(ui.Plain, fmt.Sprintf("%7.1f %%", s.Now.CPU))+"  "+t.Paint(ui.Busy, spark(s.Peak, chart, full))+"  "+
			t.Paint(ui.Plain, fmt.Sprintf("%12s", memory))+"  "+t.Paint(ui.Good, spark(s.Memory, chart, top)))
	}
	if len(all) > shown {
		out[0] += t.Paint(ui.Faint, fmt.Sprintf("   %d of %d", shown, len(all)))
	}
	return out
}

// spark draws values in a width, with a dot where none is known.
func spark(values []float64, width int, least float64) string {
	parts := squeeze(values, width)
	known := slices.Clone(parts)
	for i, p := range known {
		known[i] = max(0, p)
	}
	line := []rune(ui.Spark(known, width, least))
	for i, p := range parts {
		if p < 0 {
			line[i] = '·'
		}
	}
	return string(line)
}

// squeeze makes values fewer, by the highest of those that fall together.
func squeeze(values []float64, width int) []float64 {
	out := slices.Repeat([]float64{-1}, width)
	for i, v := range values {
		at := i * width / max(1, len(values))
		out[at] = max(out[at], v)
	}
	return out
}

// large draws one metric of the selected service, with its axes and what happened
// to it.
func (v *screen) large(rows int) []string {
	t, m, s := v.Theme(), metrics[v.metric], v.chosen()
	title := s.Service
	if title == usage.Machine {
		title = "machine"
	}
	values := m.of(s)
	width := v.parts()
	if len(values) > width { // the screen has become smaller
		values = values[len(values)-width:]
	}
	cursor := -1
	if v.cursor >= 0 {
		cursor = len(values) - 1 - v.cursor
	}
	out := []string{t.Rule(title+" · "+m.name, v.Columns)}
	chart := ui.Chart{Values: values, Least: m.least, Rows: rows, Unit: m.unit(slices.Max(append(values, m.least))), Label: m.label, Ink: ui.Busy, Cursor: cursor}
	for _, l := range chart.Lines(t) {
		out = append(out, "  "+l)
	}
	out = append(out, v.timeAxis(len(values)), v.timeLabels(len(values)))
	return append(out, "  "+v.reading(s, values, cursor))
}

// timeAxis is the ground of the chart, with what happened on it.
func (v *screen) timeAxis(width int) string {
	t := v.Theme()
	line := []rune(strings.Repeat("─", width))
	period := v.report.To.Sub(v.report.From)
	for _, e := range v.marks {
		x := int(float64(e.At.Sub(v.report.From)) / float64(period) * float64(width))
		if x < 0 || x >= width {
			continue
		}
		line[x] = map[string]rune{"start": 's', "restart": 'r', "ended": 'e', "failed": 'e', "ailing": 'a'}[e.Event]
	}
	if v.cursor >= 0 && v.cursor < width {
		line[width-1-v.cursor] = '▲'
	}
	out := t.Paint(ui.Faint, strings.Repeat(" ", ui.AxisWidth-1)+"└")
	for _, r := range line {
		in := ui.Faint
		if r != '─' {
			in = ui.Accent
		}
		out += t.Paint(in, string(r))
	}
	return "  " + out
}

// timeLabels writes round times below the axis.
func (v *screen) timeLabels(width int) string {
	t := v.Theme()
	period := v.report.To.Sub(v.report.From)
	step := time.Minute
	for _, s := range []time.Duration{time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour, 4 * time.Hour, 6 * time.Hour} {
		if step = s; float64(period)/float64(s)*12 <= float64(width) {
			break
		}
	}
	line := []rune(strings.Repeat(" ", width+6))
	from := v.report.From.Local()
	midnight := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, from.Location())
	for at := midnight; at.Before(v.report.To); at = at.Add(step) {
		if at.Before(from) {
			continue
		}
		x := int(float64(at.Sub(from)) / float64(period) * float64(width))
		if x <= width-6 {
			copy(line[x:], []rune("╵"+at.Format("15:04")))
		}
	}
	return "  " + strings.Repeat(" ", ui.AxisWidth) + t.Paint(ui.Faint, strings.TrimRight(string(line), " "))
}

// reading says the value under the cursor, or the one now with the highest.
func (v *screen) reading(s *usage.Series, values []float64, cursor int) string {
	t, m := v.Theme(), metrics[v.metric]
	signs := t.Paint(ui.Faint, "   s start  r restart  e end or failure  a ailing")
	if len(values) == 0 {
		return ""
	}
	if cursor >= 0 && cursor < len(values) {
		value := "nothing was measured"
		if values[cursor] >= 0 {
			value = m.label(round(values[cursor]))
		}
		return t.Paint(ui.Accent, v.time().Local().Format("15:04:05")) + "  " + t.Paint(ui.Strong, value) + signs
	}
	text := "now " + m.label(round(m.now(s.Now)))
	if top := slices.Max(values); top >= 0 {
		text += ", at most " + m.label(round(top))
	}
	if s.Service != usage.Machine && s.Now.Processes > 0 {
		text += fmt.Sprintf(" · %s, %s, %s", processes(s.Now.Processes), words.Count(s.Now.Threads, "thread"), words.Count(s.Now.Files, "open file"))
	}
	return t.Paint(ui.Plain, text) + signs
}

func processes(n int) string {
	if n == 1 {
		return "1 process"
	}
	return fmt.Sprintf("%d processes", n)
}

// round leaves three digits of what is large, and a tenth of what is small.
func round(v float64) float64 {
	if v >= 100 {
		return float64(int(v + 0.5))
	}
	return float64(int(v*10+0.5)) / 10
}
