package starts

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/display"
	"neighbour/internal/layout"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

func (v *screen) lines() []string {
	t := v.Theme()
	switch {
	case v.err != "" && len(v.all) == 0:
		return ui.Fill([]string{"", "  " + t.Paint(ui.Plain, "Nothing was started yet. What a start waited for, and what decided how long it took, is shown here."),
			"  " + t.Paint(ui.Faint, "On the map s starts a service, and S everything.")}, v.Rows)
	case v.err != "":
		return ui.Fill([]string{"", "  " + t.Paint(ui.Bad, display.Truncate(v.err, v.Columns-4))}, v.Rows)
	case v.report == nil:
		return ui.Fill([]string{"", "  " + t.Paint(ui.Faint, "asking the keeper")}, v.Rows)
	}
	out := append(v.head(), "")
	detail := v.detail()
	strip := v.strip()
	room := v.Rows - len(out) - len(strip) - 2 // the axis and what the signs mean
	if room < len(detail)+4 {
		detail = detail[:max(0, min(len(detail), room-4))] // the services come first
	}
	out = append(out, v.waterfall(room-len(detail))...)
	out = append(out, strip...)
	if gains := v.gains(v.Rows - len(out) - len(detail) - 2); len(gains) > 0 {
		out = append(append(out, ""), gains...)
	}
	for len(out) < v.Rows-len(detail) && len(out) < v.Rows {
		out = append(out, "")
	}
	return ui.Fill(append(out, detail...), v.Rows)
}

// now is how far the start is that is shown, in milliseconds.
func (v *screen) now() float64 {
	s := &v.report.Start
	if s.Result != starts.UnderWay {
		return s.Took
	}
	return max(v.report.Now, s.Now(v.at))
}

// head says in words how the start went, or what it would be without a part.
func (v *screen) head() []string {
	t := v.Theme()
	text, in := v.report.Summary, ui.Strong
	if s := v.report.Start; s.Result == starts.UnderWay {
		live := *v.report
		live.Now = v.now()
		text = live.UnderWay()
	}
	if i := v.whatIf; i >= 0 && i < len(v.report.WhatIfs) {
		w := v.report.WhatIfs[i]
		what := w.Service
		if w.What != "" {
			what += "'s " + w.What
		}
		text = fmt.Sprintf("Without %s: %s instead of %s. %d of %d.", what, words.Millis(w.Took), words.Millis(v.report.Start.Took), i+1, len(v.report.WhatIfs))
		in = ui.Accent
	}
	var out []string
	for _, l := range display.Wrap(display.Plain(text), max(10, v.Columns-4)) {
		out = append(out, "  "+t.Paint(in, l))
	}
	return out[:min(len(out), 3)]
}

// The signs of the phases.
const (
	waitingSign   = '┈'
	preparingSign = '▓'
	migratingSign = '▒'
	startingSign  = '█'
)

// waterfall draws the services' phases over time, in a number of rows and two
// more for the axis and what the signs mean.
func (v *screen) waterfall(rows int) []string {
	t, r := v.Theme(), v.report
	all := r.Start.Services
	each := 1 // or two: with another start below it, or air
	if v.ghost != nil && rows >= 2*min(len(all), 3) || rows >= 2*len(all)+5 {
		each = 2
	}
	shown := min(len(all), max(1, rows/each))
	at := max(0, slices.IndexFunc(all, func(s starts.Service) bool { return s.Name == v.selected }))
	first := min(max(0, at-shown/2), len(all)-shown)
	g := v.axes()
	left, width, column := g.left, g.width, g.column

	c := ui.NewCanvas(v.Columns, shown*each)
	var tails []string
	ends := map[string]int{} // the rows of the path's services
	for i := range shown {
		s := &all[first+i]
		y := i * each
		onPath := len(all) > 1 && slices.Contains(r.Analysis.Path, s.Name) && r.Start.Result != starts.UnderWay
		v.bar(c, s, y, left, column, onPath)
		if onPath {
			ends[s.Name] = y
		}
		if v.ghost != nil && each == 2 {
			v.ghostBar(c, s.Name, y+1, left, column)
		}
		tails = append(tails, v.tail(s, onPath))
	}
	for i := 1; i < len(r.Analysis.Path) && r.Start.Result != starts.UnderWay; i++ {
		before, _ := r.Start.Service(r.Analysis.Path[i-1])
		from, ok1 := ends[r.Analysis.Path[i-1]]
		to, ok2 := ends[r.Analysis.Path[i]]
		if !ok2 {
			continue
		}
		if !ok1 {
			from = -1
		}
		x := left + column(before.End())
		for y := from + 1; y < to; y++ {
			c.Text(x, y, ui.Accent, "┃")
		}
		c.Text(x, to, ui.Accent, "┗")
	}
	if i := v.whatIf; i >= 0 && i < len(r.WhatIfs) {
		x := left + column(r.WhatIfs[i].Took)
		for y := range shown * each {
			c.Text(x, y, ui.Accent, "┊")
		}
	}
	if v.reading {
		for y := range shown * each {
			c.Text(left+column(v.cursor), y, ui.Strong, "│")
		}
	}
	lines := c.Lines(t, 0, 0, left+width, shown*each)
	for i := range shown {
		lines[i*each] = v.name(&all[first+i], left-5) + display.Cut(lines[i*each], left, left+width) + tails[i]
	}
	lines = append(lines, v.axis(g))
	if v.reading {
		return append(lines, "  "+t.Paint(ui.Strong, display.Truncate(display.Plain(r.Start.At(v.cursor, v.now()).InWords()), v.Columns-4)))
	}
	legend := fmt.Sprintf("%c waiting   %c preparing   %c starting", waitingSign, preparingSign, startingSign)
	if slices.ContainsFunc(all, func(s starts.Service) bool {
		return slices.ContainsFunc(s.Phases, func(p starts.Phase) bool { return p.Is == starts.Migrating || p.Is == starts.Seeding })
	}) {
		legend += fmt.Sprintf("   %c migrating", migratingSign)
	}
	if len(r.Analysis.Path) > 1 && r.Start.Result != starts.UnderWay {
		legend += "   ┗ the path that decides"
	}
	if v.ghost != nil {
		legend += fmt.Sprintf("   ─ start %d", v.ghost.Start.ID)
	}
	if shown < len(all) {
		legend += fmt.Sprintf("   %d of %d services", shown, len(all))
	}
	return append(lines, strings.Repeat(" ", left)+t.Paint(ui.Faint, display.Truncate(legend, v.Columns-left)))
}

// axes is where the chart stands, and how long it is.
type axes struct {
	left, width int     // in columns
	top         float64 // in milliseconds, what the width shows
}

func (v *screen) axes() axes {
	g := axes{top: v.now()}
	name := 8
	for _, s := range v.report.Start.Services {
		name = max(name, min(18, display.Width(s.Name)))
	}
	const tail = 26
	g.left = name + 5
	g.width = max(10, v.Columns-g.left-tail)
	if v.ghost != nil {
		g.top = max(g.top, v.ghost.Start.Took)
	}
	g.top = max(g.top, 1)
	return g
}

// column is where a time is, counted from the chart's left.
func (g axes) column(ms float64) int { return max(0, min(g.width-1, int(ms/g.top*float64(g.width)))) }

// gains lists what would make the start faster, the most first.
func (v *screen) gains(rows int) []string {
	t, s := v.Theme(), &v.report.Start
	all := v.report.WhatIfs
	if len(all) == 0 || rows < 2 || s.Result != starts.Ready {
		return nil
	}
	out := []string{"  " + t.Paint(ui.Faint, "what would make it faster")}
	for i, w := range all {
		if len(out) == rows {
			break
		}
		what := "without " + w.Service
		if w.What != "" {
			what = fmt.Sprintf("without %s's %s", w.Service, w.What)
		}
		mark, in := "  ", ui.Plain
		if i == v.whatIf {
			mark, in = t.Paint(ui.Accent, "▸ "), ui.Accent
		}
		out = append(out, mark+t.Paint(in, fmt.Sprintf("%s  %6s", display.Pad(display.Truncate(what, 44), 44), words.Millis(w.Took)))+
			t.Paint(ui.Faint, fmt.Sprintf("   %.2f s less", (s.Took-w.Took)/1000)))
	}
	return out
}

// name is the left of a service's row.
func (v *screen) name(s *starts.Service, width int) string {
	t := v.Theme()
	mark, in := "  ", ui.Plain
	if s.Name == v.selected {
		mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
	}
	return mark + t.Paint(in, display.Pad(display.Truncate(s.Name, width), width)) + "   "
}

// bar draws one service's phases.
func (v *screen) bar(c *ui.Canvas, s *starts.Service, y, left int, column func(float64) int, onPath bool) {
	in := ui.Good
	if s.Result == starts.Failed {
		in = ui.Bad
	}
	if s.Result == "" {
		in = ui.Busy
	}
	for _, p := range s.Phases {
		to := p.To
		if to == 0 {
			to = v.now()
		}
		from, end := column(p.From), column(to)
		sign, ink := startingSign, in
		switch p.Is {
		case starts.Waiting:
			sign, ink = waitingSign, ui.Line
			end-- // what comes next begins there
		case starts.Preparing, starts.Errand:
			sign, ink = preparingSign, ui.Warn
		case starts.Migrating, starts.Seeding:
			sign, ink = migratingSign, ui.Warn
		}
		for x := from; x <= end; x++ {
			c.Text(left+x, y, ink, string(sign))
		}
	}
	if s.Result == starts.Failed && len(s.Phases) > 0 {
		c.Text(left+column(s.End()), y, ui.Bad, "✖")
	}
	if onPath { // from the corner to what it did
		for _, p := range s.Phases {
			if p.Is != starts.Waiting && p.From > 0 {
				if x := left + column(p.From) - 1; x >= left {
					c.Text(x, y, ui.Accent, "━")
				}
				break
			}
		}
	}
}

// ghostBar draws what the service did in the other start, thinly.
func (v *screen) ghostBar(c *ui.Canvas, name string, y, left int, column func(float64) int) {
	s, ok := v.ghost.Start.Service(name)
	if !ok || !s.Ran() {
		return
	}
	i := slices.IndexFunc(s.Phases, func(p starts.Phase) bool { return p.Is != starts.Waiting })
	for x := column(s.Phases[i].From); x <= column(s.End()); x++ {
		c.Text(left+x, y, ui.Faint, "─")
	}
}

// tail is what stands right of a service's bar: how long it took, and how much
// longer it could have.
func (v *screen) tail(s *starts.Service, onPath bool) string {
	t, r := v.Theme(), v.report
	own, ran := r.Analysis.Own[s.Name]
	switch {
	case s.Result == "":
		if n := len(s.Phases); n > 0 {
			p := s.Phases[n-1]
			return t.Paint(ui.Busy, fmt.Sprintf(" %8s  %s", words.Millis(p.Length(v.now())), display.Truncate(string(p.Is), 12)))
		}
		return ""
	case s.Result == starts.Failed:
		return t.Paint(ui.Bad, "           ✖ failed")
	case s.Result == starts.Cancelled:
		return t.Paint(ui.Faint, "           cancelled")
	case !ran:
		return ""
	}
	in := ui.Plain
	if slices.Contains(r.Usual.Slower, s.Name) {
		in = ui.Warn
	}
	text := t.Paint(in, fmt.Sprintf(" %8s", words.Millis(own)))
	switch {
	case r.Start.Result == starts.UnderWay, len(r.Start.Services) == 1:
	case slices.Contains(r.Usual.Slower, s.Name):
		text += t.Paint(ui.Warn, "  ▲ slower")
	case onPath:
		text += t.Paint(ui.Accent, "  ━ decides")
	default:
		text += t.Paint(ui.Faint, "  slack "+words.Millis(r.Analysis.Slack[s.Name]))
	}
	return text
}

// axis draws round times below the chart.
func (v *screen) axis(g axes) string {
	t, left, width, top := v.Theme(), g.left, g.width, g.top
	line := []rune(strings.Repeat(" ", left+width+8))
	free := 0
	ticks := layout.Ticks(top/1000, max(2, width/14))
	for i, s := range ticks {
		text := fmt.Sprintf("%g", math.Round(s*1000)/1000)
		if i == len(ticks)-1 {
			text += " s"
		}
		x := left + min(width-1, int(s*1000/top*float64(width)))
		if x < free || x+len(text) > len(line) {
			continue
		}
		copy(line[x:], []rune(text))
		free = x + len(text) + 2
	}
	return t.Paint(ui.Faint, strings.TrimRight(string(line), " "))
}

// strip is the starts to choose from, a bar each.
func (v *screen) strip() []string {
	t := v.Theme()
	if len(v.all) < 2 {
		return []string{""}
	}
	says := fmt.Sprintf("   %d starts, the newest right", len(v.all))
	room := min(len(v.all), max(5, v.Columns-display.Width(says)-30))
	place := max(0, v.place())
	first := min(max(0, place-room/2), len(v.all)-room)
	shown := v.all[first : first+room]
	top := 0.0
	for _, s := range shown {
		top = max(top, s.Took)
	}
	line := "  "
	for i, s := range shown {
		sign, in := v.stripSign(s, top)
		if first+i == place {
			line += t.Paint(ui.Accent, "["+sign+"]")
			continue
		}
		line += t.Paint(in, sign)
	}
	s := v.all[place]
	about := "   " + words.Millis(s.Took)
	if s.Result != starts.Ready {
		about = "   " + string(s.Result)
	}
	return []string{"", line + t.Paint(ui.Faint, says) + t.Paint(ui.Plain, about+", "+s.Began.Local().Format("2 Jan 15:04"))}
}

func (v *screen) stripSign(s history.Summary, top float64) (string, ui.Ink) {
	switch s.Result {
	case starts.Failed:
		return "✖", ui.Bad
	case starts.Cancelled:
		return "·", ui.Faint
	case starts.UnderWay:
		return "◐", ui.Busy
	}
	in := ui.Good
	if s.Cold {
		in = ui.Warn
	}
	return ui.Spark([]float64{s.Took}, 1, top), in
}

// detail is all of the selected service: what it waited for and did, and when.
func (v *screen) detail() []string {
	t, r := v.Theme(), v.report
	s, ok := r.Start.Service(v.selected)
	if !ok {
		return nil
	}
	title := s.Name
	if s.Kind != "program" {
		title += " · " + strings.TrimSpace(s.Kind+" "+s.Version)
	}
	out := []string{t.Rule(title, v.Columns)}
	for _, p := range s.Phases {
		length := p.Length(v.now())
		if length < 0.5 && p.To > 0 {
			continue
		}
		does := map[starts.Kind]string{starts.Waiting: "waited", starts.Preparing: "prepared", starts.Starting: "started", starts.Migrating: "migrated", starts.Seeding: "seeded", starts.Errand: "ran"}[p.Is]
		when := fmt.Sprintf("%6s to %6s", words.Millis(p.From), words.Millis(p.To))
		if p.To == 0 {
			does, when = string(p.Is), fmt.Sprintf("%6s to now   ", words.Millis(p.From))
		}
		what := p.What
		if p.Is == starts.Starting && s.Result == starts.Ready {
			what = "" // what a check answered before it was content
		}
		line := t.Paint(ui.Faint, "  "+when+"  ") + t.Paint(ui.Plain, fmt.Sprintf("%-9s %6s  ", does, words.Millis(length)))
		out = append(out, line+t.Paint(ui.Plain, display.Truncate(display.Plain(what), max(0, v.Columns-display.Width(line)-2))))
	}
	if s.Reason != "" {
		out = append(out, "  "+t.Paint(ui.Bad, display.Truncate("✖ "+display.Plain(s.Reason), v.Columns-4)))
	}
	if u := r.Usual.Services[s.Name]; u.Of > 0 {
		out = append(out, "  "+t.Paint(ui.Plain, "in all "+u.InWords(r.Analysis.Own[s.Name])))
	}
	if len(r.Start.Changed) > 0 {
		if keys := changedOf(r.Start.Changed, s.Name); len(keys) > 0 {
			out = append(out, "  "+t.Paint(ui.Plain, "changed since the start before: "+strings.Join(keys, ", ")))
		}
	}
	return out
}

func changedOf(changed []string, service string) []string {
	var out []string
	for _, c := range changed {
		if key, ok := strings.CutPrefix(c, service+"."); ok {
			out = append(out, key)
		}
	}
	return out
}

var _ view.View = (*screen)(nil)
