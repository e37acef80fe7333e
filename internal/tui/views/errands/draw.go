package errands

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// sign is how a run ended; each result has its own.
func sign(r errand.Result) (string, ui.Ink) {
	switch r {
	case errand.OK:
		return "●", ui.Good
	case errand.Failed:
		return "✖", ui.Bad
	case errand.UnderWay:
		return "◐", ui.Busy
	case errand.Cancelled:
		return "○", ui.Faint
	}
	return "?", ui.Warn
}

// history is how many runs stand as signs in a row.
const history = 5

// listRows is how many rows the list may take.
func (v *screen) listRows() int { return min(max(1, len(v.all)), max(3, v.Rows/2-3)) }

// outputRows is how many lines of output are shown.
func (v *screen) outputRows() int { return max(0, v.Rows-v.listRows()-4) }

// lines are those of the output.
func (v *screen) lines() []string {
	if v.text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(strings.ReplaceAll(v.text, "\r\n", "\n"), "\n"), "\n")
}

func (v *screen) drawing() view.Drawing {
	t := v.Theme()
	say := func(lines ...string) view.Drawing {
		out := []string{""}
		for _, l := range lines {
			out = append(out, "  "+t.Paint(ui.Plain, display.Truncate(l, v.Columns-4)))
		}
		return view.Drawing{Lines: ui.Fill(ui.Truncate(out, v.Columns), v.Rows)}
	}
	switch {
	case v.err != "":
		return say(v.err)
	case !v.loaded:
		return say("asking the keeper")
	case len(v.all) == 0:
		return say("Commands that are run now and then stand here: a test, a report, a change of the schema.",
			"One is two lines of neighbour.toml:", "",
			"    [errand.test]", "    run = \"npm test\"", "", "with = \"api\" gives it the folder and the environment of a service.")
	}
	d := view.Drawing{}
	out := []string{v.head(), ""}
	rows := v.listRows()
	first := min(max(0, v.at()-rows/2), len(v.all)-rows)
	name := 8
	for _, e := range v.all {
		name = max(name, min(20, display.Width(e.Name)))
	}
	for i := range rows {
		e := v.all[first+i]
		d.Spots = append(d.Spots, view.Spot{X: 0, Y: len(out), Width: v.Columns, Height: 1, Click: func() tea.Cmd {
			v.choose(e.Name, 0)
			return v.show(e)
		}})
		out = append(out, v.row(e, name))
	}
	out = append(out, v.output(v.Rows-len(out))...)
	d.Lines = ui.Fill(ui.Truncate(out, v.Columns), v.Rows)
	return d
}

// head says what is the matter: what runs, what has failed.
func (v *screen) head() string {
	t := v.Theme()
	failed, none := "", true
	var under, due []string
	for _, e := range v.all {
		if e.Due != "" {
			due = append(due, fmt.Sprintf("%s is due before the next start of %s: %s.", e.Name, words.Join(e.Before), display.Plain(e.Due)))
		}
		r, ran := e.Last()
		none = none && !ran
		switch {
		case !ran:
		case r.Result == errand.UnderWay:
			under = append(under, fmt.Sprintf("%s runs for %s", e.Name, words.Span(v.Now.Sub(r.Began))))
		case r.Result == errand.Failed && failed == "":
			failed = fmt.Sprintf("%s failed %s: %s", e.Name, age(v.Now, r.Began), r.Exit)
			if r.Line != "" && r.Line != r.Exit {
				failed += ", " + display.Plain(r.Line)
			}
		}
	}
	switch {
	case len(under) > 0:
		return "  " + t.Paint(ui.Strong, strings.Join(under, ", ")+".")
	case failed != "":
		return "  " + t.Paint(ui.Bad, failed)
	case len(due) > 0:
		return "  " + t.Paint(ui.Plain, strings.Join(due, " "))
	case none:
		return "  " + t.Paint(ui.Plain, "Nothing was run yet.")
	}
	return "  " + t.Paint(ui.Plain, "All that ran ended well the last time.")
}

// age says how long ago something was: up to a day as an age, then as a date.
func age(now, at time.Time) string {
	if d := now.Sub(at); d < 24*time.Hour {
		return words.Span(max(0, d)) + " ago"
	}
	return at.Local().Format("2 Jan 15:04")
}

func (v *screen) row(e insight.Errand, width int) string {
	t := v.Theme()
	mark, in := "  ", ui.Plain
	if e.Name == v.selected {
		mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
	}
	about := e.About
	if about == "" {
		about = e.Run
	}
	// What stands right of it takes so much.
	const right = 2*history + 2 + 13 + 9
	needs, room := v.needs(e), 26
	if v.Columns < 110 { // what it is for goes first
		needs, room = "", 0
	}
	aboutWidth := max(10, min(46, v.Columns-width-right-room-8))
	line := mark + t.Paint(in, display.Pad(display.Truncate(e.Name, width), width)) + "  " +
		t.Paint(ui.Plain, display.Pad(display.Truncate(display.Plain(about), aboutWidth), aboutWidth)) + "  "
	runs := e.Runs[max(0, len(e.Runs)-history):]
	line += t.Paint(ui.Faint, strings.Repeat("· ", history-len(runs)))
	for _, r := range runs {
		s, ink := sign(r.Result)
		line += t.Paint(ink, display.Signs(s)) + " "
	}
	when, took := "", ""
	if r, ran := e.Last(); ran {
		when = age(v.Now, r.Began)
		if took = words.Millis(r.Took); r.Result == errand.UnderWay {
			when, took = "now", words.Span(v.Now.Sub(r.Began))
		}
	}
	return line + " " + t.Paint(ui.Faint, fmt.Sprintf("%12s", when)) + t.Paint(ui.Plain, fmt.Sprintf("%9s", took)) + "  " + needs
}

// by says who asked for a run, or what it went before.
func by(r errand.Run) string {
	if strings.HasPrefix(r.By, "before ") {
		return display.Plain(r.By)
	}
	return "by " + display.Plain(r.By)
}

// needs says what makes it run, or what it needs and how that is.
func (v *screen) needs(e insight.Errand) string {
	t := v.Theme()
	if len(e.Before)+len(e.On) > 0 {
		if e.Due != "" {
			return t.Paint(ui.Plain, e.WhenInWords()) + "  " + t.Paint(ui.Warn, "▲ due")
		}
		return t.Paint(ui.Plain, e.WhenInWords())
	}
	var parts []string
	for _, n := range e.Needs {
		state := n.State
		if s, known := v.Services[n.Name]; known {
			state = s.State
		}
		parts = append(parts, t.Paint(ui.Plain, n.Name+" ")+t.Paint(view.StateInk(state), signs.State(state)))
	}
	if len(parts) == 0 {
		return ""
	}
	return t.Paint(ui.Faint, "needs ") + strings.Join(parts, t.Paint(ui.Faint, ", "))
}

// output is the run that is shown, and what it has printed.
func (v *screen) output(rows int) []string {
	t := v.Theme()
	e, _ := v.errand()
	if rows < 2 {
		return nil
	}
	if v.shown.ID == 0 {
		return []string{t.Rule(e.Name, v.Columns), "", "  " + t.Paint(ui.Faint, "It was not run yet. It would run: ") + t.Paint(ui.Plain, display.Truncate(display.Plain(e.Run), max(0, v.Columns-38)))}
	}
	r := v.shown
	title := fmt.Sprintf("%s · %s, %s", e.Name, age(v.Now, r.Began), by(r))
	if len(r.Args) > 0 {
		title = fmt.Sprintf("%s %s · %s, %s", e.Name, display.Plain(joined(r.Args)), age(v.Now, r.Began), by(r))
	}
	switch {
	case r.Result == errand.UnderWay:
		title += ", under way for " + words.Span(v.Now.Sub(r.Began))
	default:
		title += fmt.Sprintf(", %s after %s", r.Exit, words.Millis(r.Took))
		if r.Result == errand.Cancelled {
			title += ", cancelled"
		}
	}
	for i, one := range e.Runs {
		if one.ID == r.ID && i < len(e.Runs)-1 {
			title += fmt.Sprintf(" · run %d of %d", i+1, len(e.Runs))
		}
	}
	out := []string{t.Rule(display.Truncate(title, v.Columns-6), v.Columns)}
	lines := v.lines()
	rows--
	if v.search != nil {
		rows--
	}
	switch {
	case r.Unkept:
		out = append(out, "", "  "+t.Paint(ui.Faint, "It had the terminal to itself, so what it printed is not kept."))
	case len(lines) == 0 && r.Result != errand.UnderWay:
		out = append(out, "", "  "+t.Paint(ui.Faint, "It printed nothing."))
	}
	top := min(max(0, v.top), max(0, len(lines)-rows))
	if v.follow {
		top = max(0, len(lines)-rows)
	}
	for _, l := range lines[top:min(len(lines), top+rows)] {
		in := ui.Plain
		if v.sought != "" && strings.Contains(strings.ToLower(l), strings.ToLower(v.sought)) {
			in = ui.Accent
		}
		out = append(out, "  "+t.Paint(in, display.Truncate(display.Plain(l), max(0, v.Columns-4))))
	}
	if spare := rows + 1 - len(out); v.search == nil && len(e.Runs) > 1 && spare >= 5 {
		// What is printed grows, so the runs stand at the end.
		runs := v.runs(e, min(spare-2, len(e.Runs)+1))
		out = append(ui.Fill(out, rows+1-len(runs)), runs...)
	}
	if v.search != nil {
		out = append(ui.Fill(out, rows+1), "  "+t.Paint(ui.Faint, "search ")+ui.DrawInput(t, *v.search, max(10, v.Columns-12)))
	}
	return out
}

// runs lists the latest runs of an errand, the newest first.
func (v *screen) runs(e insight.Errand, n int) []string {
	t := v.Theme()
	out := []string{"  " + t.Paint(ui.Faint, "its runs")}
	for i := len(e.Runs) - 1; i >= 0 && len(out) < n; i-- {
		r := e.Runs[i]
		mark, in := "  ", ui.Plain
		if r.ID == v.shown.ID {
			mark, in = t.Paint(ui.Accent, "▸ "), ui.Strong
		}
		s, ink := sign(r.Result)
		took := words.Millis(r.Took)
		if r.Result == errand.UnderWay {
			took = words.Span(v.Now.Sub(r.Began))
		}
		what := r.Exit
		if r.Line != "" && r.Line != r.Exit {
			what = strings.TrimPrefix(what+": "+display.Plain(r.Line), ": ")
		}
		if len(r.Args) > 0 {
			what = display.Plain(joined(r.Args)) + "   " + what
		}
		out = append(out, mark+t.Paint(ink, display.Signs(s))+t.Paint(ui.Faint, fmt.Sprintf("%14s %9s   ", age(v.Now, r.Began), took))+
			t.Paint(ui.Faint, display.Pad(display.Truncate(display.Plain(r.By), 30), 30))+"  "+t.Paint(in, what))
	}
	return out
}
