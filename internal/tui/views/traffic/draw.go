package traffic

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/traffic"
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
