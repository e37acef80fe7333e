package traffic

import (
	"strings"

	"neighbour/internal/core/record/traffic"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
)

// details are the lines of the chosen one.
func (v *screen) details(width int) []string {
	t := v.Theme()
	e, ok := v.chosen()
	if !ok {
		return nil
	}
	if v.other != nil && v.other.ID != e.ID && v.whole.ID == e.ID {
		return v.compared(width)
	}
	w := &v.whole
	if w.ID != e.ID {
		return []string{"  " + t.Paint(ui.Faint, "asking the gate")}
	}
	var out []string
	line := func(parts ...string) { out = append(out, "  "+strings.Join(parts, "")) }
	if v.other != nil {
		line(t.Paint(ui.Accent, "marked: choose another to compare it with"))
	}
	if w.Problem != "" {
		line(t.Paint(ui.Warn, "▲ "+display.Plain(w.Problem)))
	}
	if w.UsualMS > 0 {
		line(t.Paint(ui.Warn, "▲ slower than usual: "+traffic.Took(w.UsualMS)+" at the median before"))
	}
	if w.Why != "" {
		for i, l := range display.Wrap(display.Plain(w.Why), max(10, width-6)) {
			sign := "  "
			if i == 0 {
				sign = "▲ "
			}
			line(t.Paint(ui.Warn, sign+l))
		}
	}
	out = append(out, v.timing(w, width)...)
	out = append(out, v.printed(w)...)
	out = append(out, v.way(w, width)...)
	if len(out) > 0 {
		out = append(out, "")
	}
	// Beside each other where there is room for both.
	half := width
	if width >= sideBySide {
		half = width / 2
	}
	left, right := v.message("request", &w.Request, w.Sent, half), v.message("answer", &w.Response, w.Received, half)
	if half == width {
		return append(append(append(out, left...), ""), right...)
	}
	for i := range max(len(left), len(right)) {
		l, r := "", ""
		if i < len(left) {
			l = left[i]
		}
		if i < len(right) {
			r = right[i]
		}
		out = append(out, display.Pad(display.Truncate(l, half-2), half-2)+r)
	}
	return out
}

// sideBySide is from which width on a request and its answer stand beside each other.
const sideBySide = 110

// message is a request or an answer.
func (v *screen) message(name string, m *traffic.Message, bytes int64, width int) []string {
	t := v.Theme()
	about := m.Type
	if bytes > 0 {
		about = strings.TrimPrefix(about+", "+size(bytes), ", ")
	}
	out := []string{"  " + t.Paint(ui.Strong, name) + t.Paint(ui.Faint, "  "+display.Plain(about))}
	if m.About != "" {
		out = append(out, "  "+t.Paint(ui.Faint, display.Plain(m.About)))
	}
	for _, part := range [][]string{v.fields("query", m.Query, width), v.fields("form", m.Form, width), v.body(m.Text, width), v.fields("headers", m.Headers, width), v.fields("cookies", m.Cookies, width)} {
		if len(part) > 0 && len(out) > 1 {
			out = append(out, "")
		}
		out = append(out, part...)
	}
	return out
}

// timing draws the phases of a request.
func (v *screen) timing(w *traffic.Shown, width int) []string {
	t := v.Theme()
	if w.AnsweredMS == 0 || w.TookMS == 0 || w.Upgrade != "" {
		return nil
	}
	room := max(10, min(60, width-70))
	cell := func(ms float64) int { return int(ms / w.TookMS * float64(room)) }
	sent, answered := cell(w.SentMS), cell(w.AnsweredMS)
	bar := t.Paint(ui.Faint, strings.Repeat("┈", sent)) + t.Paint(ui.Accent, strings.Repeat("━", max(0, answered-sent))) + t.Paint(ui.Good, strings.Repeat("█", max(1, room-answered)))
	return []string{"  " + bar + "  " + t.Paint(ui.Faint, "sent ") + t.Paint(ui.Plain, traffic.Took(w.SentMS)) + t.Paint(ui.Faint, "  waited ") + t.Paint(ui.Plain, traffic.Took(max(0, w.AnsweredMS-w.SentMS))) +
		t.Paint(ui.Faint, "  received ") + t.Paint(ui.Plain, traffic.Took(max(0, w.TookMS-w.AnsweredMS)))}
}

// printed are the warnings and errors that came while an answer failed.
func (v *screen) printed(w *traffic.Shown) []string {
	t := v.Theme()
	if len(w.Printed) == 0 {
		return nil
	}
	wide := 0
	for _, l := range w.Printed {
		wide = max(wide, min(16, display.Width(l.Service)))
	}
	out := []string{"", "  " + t.Paint(ui.Strong, "printed meanwhile") + t.Paint(ui.Faint, "  warnings and errors; l shows all")}
	for _, l := range w.Printed {
		for i, text := range strings.Split(strings.TrimRight(display.Plain(l.Text), "\n"), "\n") {
			name := l.Service
			if i > 0 {
				name = ""
			}
			out = append(out, "    "+t.Paint(ui.Faint, display.Pad(display.Truncate(name, wide), wide))+"  "+t.Paint(ui.Plain, text))
		}
	}
	return out
}

// way draws the requests that one led to, each below the one that was under way when it came.
func (v *screen) way(w *traffic.Shown, width int) []string {
	t := v.Theme()
	if len(w.Related) < 2 {
		return nil
	}
	first := w.Related[0]
	end := 0.0
	at := func(e *traffic.Exchange) float64 { return float64(e.Began.Sub(first.Began).Microseconds()) / 1000 }
	for i := range w.Related {
		end = max(end, at(&w.Related[i])+w.Related[i].TookMS)
	}
	out := []string{"", "  " + t.Paint(ui.Strong, "its way") + t.Paint(ui.Faint, "  requests with the same trace")}
	room := max(10, width-66)
	var open []float64
	for i := range w.Related {
		e := &w.Related[i]
		from, to := at(e), at(e)+e.TookMS
		for len(open) > 0 && open[len(open)-1] < from {
			open = open[:len(open)-1]
		}
		depth := len(open)
		open = append(open, to)
		x1, x2 := int(from/end*float64(room)), int(to/end*float64(room))
		name := strings.Repeat("  ", min(depth, 4))
		if depth > 0 {
			name = name[2:] + "└ "
		}
		ink := ui.Accent
		if e.Failed() {
			ink = ui.Bad
		}
		label := name + e.Service + "  " + e.Method + " " + display.Plain(v.path(e))
		if e.Event != "" {
			label = name + display.Plain(e.Event)
		}
		label = display.Pad(display.Truncate(label, 44), 44)
		out = append(out, "  "+label+"  "+strings.Repeat(" ", x1)+t.Paint(ink, "╺"+strings.Repeat("━", max(0, x2-x1-2))+"╸")+t.Paint(ui.Plain, " "+traffic.Took(e.TookMS)))
	}
	return out
}

func (v *screen) fields(title string, fields []traffic.Field, width int) []string {
	t := v.Theme()
	if len(fields) == 0 {
		return nil
	}
	wide := 0
	for _, f := range fields {
		wide = max(wide, min(28, display.Width(f.Name)))
	}
	out := []string{"  " + t.Paint(ui.Faint, title)}
	for _, f := range fields {
		value := display.Plain(f.Value)
		if f.Secret && !v.secrets {
			value = "••••••••"
		}
		for i, l := range display.Wrap(value, max(10, width-wide-8)) {
			name := f.Name
			if i > 0 {
				name = ""
			}
			out = append(out, "    "+t.Paint(ui.Faint, display.Pad(display.Truncate(display.Plain(name), wide), wide))+"  "+t.Paint(ui.Plain, l))
		}
	}
	return out
}

func (v *screen) body(text string, width int) []string {
	t := v.Theme()
	if text == "" {
		return nil
	}
	var out []string
	const most = 5000
	for l := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		l = display.Plain(l)
		if !v.secrets {
			l = maskedJSON(l)
		}
		for _, part := range display.Wrap(l, max(10, width-6)) {
			out = append(out, "    "+t.Paint(ui.Plain, part))
		}
		if len(out) > most {
			break
		}
	}
	return out
}

// maskedJSON hides the value in a line of JSON whose name is that of a secret.
func maskedJSON(line string) string {
	name, value, ok := strings.Cut(line, `": `)
	if !ok || !traffic.Secret(strings.Trim(strings.TrimSpace(name), `"`)) || strings.HasPrefix(value, "{") || strings.HasPrefix(value, "[") {
		return line
	}
	end := ""
	if strings.HasSuffix(value, ",") {
		end = ","
	}
	return name + `": "••••••••"` + end
}

// compared lists what is different in the marked one and the chosen one.
func (v *screen) compared(width int) []string {
	t := v.Theme()
	all := traffic.Compare(*v.other, v.whole)
	out := []string{"  " + t.Paint(ui.Strong, "compared with "+v.other.Began.Local().Format("15:04:05")+" "+v.other.Method+" "+display.Plain(v.path(&v.other.Exchange))), ""}
	if len(all) == 0 {
		return append(out, "  "+t.Paint(ui.Plain, "Nothing is different."))
	}
	wide := max(10, (width-36)/2)
	for _, d := range all {
		a, b := display.Plain(d.A), display.Plain(d.B)
		if !v.secrets {
			a, b = maskedJSON(traffic.Masked(a)), maskedJSON(traffic.Masked(b))
		}
		if d.Secret && !v.secrets {
			a, b = display.Mask(a), display.Mask(b)
		}
		out = append(out, "  "+t.Paint(ui.Faint, display.Pad(display.Truncate(display.Plain(d.What), 28), 28))+"  "+
			t.Paint(ui.Warn, display.Pad(display.Truncate("- "+a, wide), wide))+"  "+t.Paint(ui.Good, display.Truncate("+ "+b, wide)))
	}
	return out
}
