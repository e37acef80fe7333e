package traffic

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/traffic"
	"neighbour/internal/core/words"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

var (
	errHeader = errors.New("a header is a name, a colon and a value: Accept: text/csv")
	errThere  = errors.New("there is such a file; write another name")
)

// Fit scrolls so that what is chosen is in sight.
func (v *screen) Fit(width, height int) {
	v.columns, v.rows = width, height
	rows, at := v.listRows(), max(0, v.at())
	v.top = max(0, min(v.top, at))
	v.top = max(v.top, at-rows+1)
	v.top = max(0, min(v.top, len(v.list)-rows))
	v.scrolled = min(v.scrolled, max(0, len(v.details(width))-v.detailRows()))
}

// listRows is how many requests are shown at a time.
func (v *screen) listRows() int {
	if v.inside {
		return min(3, max(1, v.rows/6))
	}
	return max(1, min(max(3, len(v.list)), (v.rows-3)/2))
}

// detailRows is how many lines of the chosen one are shown.
func (v *screen) detailRows() int { return max(1, v.rows-3-v.listRows()) }

// status is an answer's status as it is shown.
func status(e *traffic.Exchange) string {
	switch {
	case e.State != "" && e.Status == 0, e.State == traffic.Aside, e.State == "waiting":
		if e.Tries > 0 && e.State == "waiting" {
			return "try " + strconv.Itoa(e.Tries+1)
		}
		return e.State
	case e.Upgrade != "" && e.Open:
		return e.Upgrade
	case e.Open && e.Status == 0:
		return "…"
	case e.Status == 0:
		return "none"
	}
	return strconv.Itoa(e.Status)
}

// sign says in a sign and a colour how a request went; each has its own.
func sign(e *traffic.Exchange) (string, ui.Ink) {
	switch {
	case e.State == traffic.Aside:
		return "✖", ui.Bad
	case e.State == traffic.Dropped:
		return "○", ui.Faint
	case e.Open && e.Problem != "":
		return "▲", ui.Warn
	case e.Open:
		return "◐", ui.Busy
	case e.Waiting:
		return "○", ui.Warn
	case e.Failed():
		return "✖", ui.Bad
	case e.Problem != "":
		return "▲", ui.Warn
	case e.UsualMS > 0:
		return "▲", ui.Warn
	case e.Status >= 400:
		return "▲", ui.Warn
	case e.Status >= 300:
		return "→", ui.Faint
	}
	return "●", ui.Good
}

func size(n int64) string {
	if n == 0 {
		return "–"
	}
	return words.Bytes(uint64(n))
}

// Render draws the view.
func (v *screen) Render() view.Drawing {
	t := v.Theme()
	d := view.Drawing{}
	out := []string{v.head(), ""}
	switch {
	case v.routes != nil:
		out = append(out, v.summary()...)
	case v.triggers.shown:
		lines, spots := v.drawTriggers(len(out))
		out, d.Spots = append(out, lines...), spots
	case len(v.list) == 0 && v.loaded && v.problem == "":
		out = append(out, v.empty()...)
	default:
		pathWide := v.pathWide()
		for i := v.top; i < min(len(v.list), v.top+v.listRows()); i++ {
			e := &v.list[i]
			d.Spots = append(d.Spots, view.Spot{X: 0, Y: len(out), Width: v.columns, Height: 1, Click: func() tea.Cmd {
				v.selected, v.follow = e.ID, i == v.newest()
				return v.read()
			}})
			out = append(out, v.row(e, pathWide))
		}
		out = ui.Fill(out, 2+v.listRows())
		if e, ok := v.chosen(); ok {
			out = append(out, t.Rule(display.Truncate(v.title(&e), v.columns-6), v.columns))
			lines := v.details(v.columns)
			from := min(v.scrolled, max(0, len(lines)-1))
			end := min(len(lines), from+v.detailRows())
			out = append(out, lines[from:end]...)
			if rest := len(lines) - end; rest > 0 && len(out) >= v.rows {
				out[v.rows-1] = "  " + t.Paint(ui.Faint, fmt.Sprintf("%s more; enter shows them", words.Count(rest+1, "line")))
				if v.inside {
					out[v.rows-1] = "  " + t.Paint(ui.Faint, words.Count(rest+1, "line")+" more")
				}
			}
		}
	}
	d.Lines = ui.Fill(ui.Truncate(out, v.columns), v.rows)
	return d
}

// path is the path of a request as it may be shown.
func (v *screen) path(e *traffic.Exchange) string {
	if v.secrets {
		return e.Path
	}
	return traffic.Masked(e.Path)
}

func (v *screen) title(e *traffic.Exchange) string {
	text := e.Method + " " + display.Plain(v.path(e)) + " · " + status(e)
	if e.Event != "" {
		text = display.Plain(e.Event) + " · " + status(e)
	}
	if e.Tries > 1 {
		text += fmt.Sprintf(" · %d tries", e.Tries)
	}
	if e.Of != "" {
		text += " · " + e.Of
	}
	return text
}

// head says what is the matter with what passes.
func (v *screen) head() string {
	t := v.Theme()
	if v.filter != nil {
		return "  " + t.Paint(ui.Faint, "only ") + ui.DrawInput(t, *v.filter, max(10, v.columns-12))
	}
	right := ""
	switch {
	case v.only != "":
		right = t.Paint(ui.Accent, "only "+display.Plain(v.only))
	case v.follow && v.routes == nil && len(v.list) > 0:
		right = t.Paint(ui.Faint, "following")
	}
	text, ink := v.says, ui.Strong
	switch {
	case v.problem != "":
		text, ink = v.problem, ui.Bad
	case !v.loaded:
		text, ink = "asking the gate", ui.Faint
	case text == "" && len(v.list) == 0 && v.only == "":
		text = "Nothing has passed yet."
	}
	for _, p := range v.Overview.GateProblems {
		text, ink = p, ui.Warn
	}
	text = display.Truncate(display.Plain(text), max(10, v.columns-display.Width(right)-6))
	return "  " + t.Paint(ink, text) + strings.Repeat(" ", max(2, v.columns-display.Width(text)-display.Width(right)-4)) + right
}

// empty says what would be here, and how it comes.
func (v *screen) empty() []string {
	t := v.Theme()
	if v.only != "" {
		return []string{"  " + t.Paint(ui.Plain, "No request that passed matches.")}
	}
	if len(v.Overview.Gate) == 0 {
		return []string{"  " + t.Paint(ui.Plain, "Requests to the project's names stand here. No service of it speaks HTTP, or the gate is off:"), "",
			"      " + t.Paint(ui.Plain, "[gate]"), "      " + t.Paint(ui.Plain, "off = false")}
	}
	out := []string{"  " + t.Paint(ui.Plain, "Requests to these addresses will stand here, each with its answer:"), ""}
	wide := 0
	for _, n := range v.Overview.Gate {
		wide = max(wide, display.Width(n.URL))
	}
	for _, n := range v.Overview.Gate {
		if n.URL == "" {
			n.URL = n.Name
		}
		why := ""
		if n.Because != "" {
			why = ": " + n.Because
		}
		to := n.Service
		if to == "" {
			to = n.Target
		}
		out = append(out, "      "+t.Paint(ui.Accent, display.Pad(n.URL, wide))+"  "+t.Paint(ui.Faint, to+why))
	}
	return append(out, "", "  "+t.Paint(ui.Faint, "What goes straight to a service's port does not pass here."))
}

// narrow is below which width the size and the service are left out.
const narrow = 100

func (v *screen) pathWide() int {
	other := 2 + 8 + 2 + 7 + 2 + 11 + 10 + 2
	if v.columns >= narrow {
		other += 10 + 2 + 14 + 2
	}
	return max(10, v.columns-other)
}

func (v *screen) row(e *traffic.Exchange, pathWide int) string {
	t := v.Theme()
	mark, in := "  ", ui.Plain
	if e.ID == v.selected {
		mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
	}
	s, ink := sign(e)
	duration := traffic.Took(e.TookMS)
	if e.Upgrade != "" && e.Open {
		duration = "open"
	}
	tookInk := ui.Plain
	if e.UsualMS > 0 {
		tookInk = ui.Warn
	}
	where := display.Plain(e.Where(v.secrets))
	line := mark + t.Paint(ui.Faint, e.Began.Local().Format("15:04:05")) + "  " + t.Paint(in, display.Pad(display.Truncate(e.Kind(), 7), 7)) + "  " +
		t.Paint(in, display.Pad(display.Truncate(where, pathWide), pathWide)) + "  " +
		t.Paint(ink, display.Signs(s)+" "+display.Pad(display.Truncate(status(e), 9), 9)) + t.Paint(tookInk, fmt.Sprintf("%10s", duration))
	if v.columns >= narrow {
		line += t.Paint(ui.Plain, fmt.Sprintf("%10s", size(e.Received))) + "  " + t.Paint(ui.Plain, display.Truncate(e.Service, 14))
	}
	return line
}

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

// summary is the requests by their routes.
func (v *screen) summary() []string {
	t := v.Theme()
	if len(v.routes) == 0 {
		return []string{"  " + t.Paint(ui.Faint, "asking the gate")}
	}
	where := max(20, v.columns-2-7-2-9-9-11-11-16)
	right := func(text string, wide int) string { return fmt.Sprintf("%*s", wide, text) }
	out := []string{"  " + t.Paint(ui.Faint, display.Pad("", 7)+"  "+display.Pad("route", where)+right("requests", 9)+right("failed", 9)+right("median", 11)+right("slowest", 11)+"  service")}
	for i := range v.routes {
		r := &v.routes[i]
		failed, ink := "–", ui.Faint
		if r.Failed > 0 {
			failed, ink = "✖ "+strconv.Itoa(r.Failed), ui.Bad
		}
		out = append(out, "  "+t.Paint(ui.Plain, display.Pad(display.Truncate(r.Method, 7), 7)+"  "+display.Pad(display.Truncate(display.Plain(r.Host+r.Route), where), where)+right(strconv.Itoa(r.Count), 9))+
			t.Paint(ink, right(display.Signs(failed), 9))+t.Paint(ui.Plain, right(traffic.Took(r.MedianMS), 11)+right(traffic.Took(r.MostMS), 11)+"  "+display.Truncate(r.Service, 14)))
	}
	return out
}
