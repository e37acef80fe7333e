package mapview

import (
	"fmt"
	"strings"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// note returns what stands beside a state on a card: how long it took, or takes.
func note(s api.Status, now time.Time) string {
	switch s.State {
	case supervise.Ready, supervise.Ailing, supervise.Finished:
		if s.ReadyMS > 0 {
			return words.Millis(s.ReadyMS)
		}
	case supervise.Preparing, supervise.Starting, supervise.Stopping:
		return words.Span(now.Sub(s.Since))
	case supervise.Failed, supervise.Waiting:
		if s.Restarts > 0 {
			return fmt.Sprintf("restarts %d", s.Restarts)
		}
	}
	return ""
}

// what returns the second line of a card: what the service is, what a start is
// doing, or the reason it can't.
func what(s api.Status) string {
	switch {
	case s.Held:
		return display.Plain(s.Reason)
	case s.State == supervise.Preparing && len(s.Lines) > 0 && s.Lines[len(s.Lines)-1].At.After(s.Since):
		return display.Plain(s.Reason + ": " + s.Lines[len(s.Lines)-1].Text)
	case s.State == supervise.Waiting || s.State == supervise.Preparing || s.State == supervise.Failed || s.State == supervise.Ailing:
		return display.Plain(s.Reason)
	case s.State == supervise.Starting && s.Reason != "":
		return display.Plain(s.Reason)
	case s.Misbehaves != "":
		return signs.Level(check.Warns) + " " + s.Misbehaves
	case s.Wrong != "":
		return signs.Level(check.Warns) + " " + display.Plain(s.Wrong)
	case s.Command != "":
		short := shortCommand(s.Command)
		if short == s.Name {
			short = s.Command // its name stands above
		}
		return display.Plain(short)
	case s.Version != "":
		return s.Kind + " " + s.Version
	case s.Kind == s.Name:
		return s.About
	}
	return s.Kind
}

// stateWord says how a service is, or what is done on the way to its start.
func stateWord(s api.Status) string {
	if s.Task != "" && s.State == supervise.Starting {
		return string(s.Task)
	}
	return string(s.Shown())
}

// shortCommand leaves out the folder of the program.
func shortCommand(command string) string {
	program, rest, _ := strings.Cut(command, " ")
	return strings.TrimSpace(program[strings.LastIndexByte(program, '/')+1:] + " " + rest)
}

func port(s api.Status) string {
	if s.Port == 0 {
		return ""
	}
	return fmt.Sprintf(":%d", s.Port)
}

// drawCard draws a card of four rows, or of three with what it is beside its
// state.
func (v *mapView) drawCard(c *ui.Canvas, x, y, width, tall int, s api.Status) {
	corner, edge, name := [4]string{"╭", "╮", "╰", "╯"}, "│", ui.Strong
	border, dash := ui.Line, "─"
	if s.Name == v.Selected {
		corner, edge, dash = [4]string{"┏", "┓", "┗", "┛"}, "┃", "━"
		border, name = ui.Accent, ui.Accent
	}
	inner := width - 4
	title := display.Truncate(s.Name, inner-1)
	c.Text(x, y, border, corner[0]+" "+strings.Repeat(" ", display.Width(title))+" "+strings.Repeat(dash, width-4-display.Width(title))+corner[1])
	c.Text(x+2, y, name, title)
	if f, found := v.Finding(s.Name); found && s.State != supervise.Failed { // a failure says it all
		c.Text(x+width-4, y, border, " ")
		c.Text(x+width-3, y, view.LevelInk(f.Level), signs.Level(f.Level))
		c.Text(x+width-2, y, border, " ")
	}
	for r := 1; r < tall-1; r++ {
		c.Text(x, y+r, border, edge+strings.Repeat(" ", width-2)+edge)
	}
	c.Text(x, y+tall-1, border, corner[2]+strings.Repeat(" ", width-2)+corner[3])
	v.drawStrip(c, x+2, y+tall-1, inner, s)

	state := signs.State(s.Shown()) + " " + stateWord(s)
	beside, p := note(s, v.Now), port(s)
	if tall == lowRows {
		c.Text(x+2, y+1, view.StateInk(s.Shown()), display.Truncate(state, inner))
		left, right := inner-display.Width(state)-2, p
		if s.State != supervise.Ready {
			right = beside
		}
		if left-display.Width(right)-1 < 6 {
			right = ""
		}
		c.Text(x+width-2-display.Width(right), y+1, ui.Faint, right)
		if left -= display.Width(right) + 1; left >= 4 {
			c.Text(x+4+display.Width(state), y+1, ui.Plain, cells(display.Truncate(what(s), left)))
		}
		return
	}
	if display.Width(state)+display.Width(beside)+1 > inner {
		beside = ""
	}
	c.Text(x+2, y+1, view.StateInk(s.Shown()), display.Truncate(state, inner))
	c.Text(x+width-2-display.Width(beside), y+1, ui.Faint, beside)

	room := inner
	if display.Width(what(s)) > room-display.Width(p)-1 && s.State != supervise.Ready {
		p = "" // the reason is worth more
	}
	if p != "" {
		room -= display.Width(p) + 1
	}
	c.Text(x+2, y+2, ui.Plain, cells(display.Truncate(what(s), room)))
	c.Text(x+width-2-display.Width(p), y+2, ui.Faint, p)
}

// cells makes a text take a cell for each of its runes, as the canvas needs
// it: what would be wider or narrower is shown as a dot.
func cells(s string) string {
	var b strings.Builder
	for _, r := range s {
		if display.Width(string(r)) != 1 {
			r = '·'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// bars show how long a check took.
var bars = []struct {
	below float32 // milliseconds
	r     string
}{{1, "▂"}, {5, "▃"}, {20, "▄"}, {100, "▅"}}

// drawStrip draws the latest checks, the newest at the right: a bar for how
// long each took, a cross for one that failed, a dot where there was none.
func (v *mapView) drawStrip(c *ui.Canvas, x, y, width int, s api.Status) {
	if step, under := s.UnderWay(); under && step.Usual > 0 { // how far it is, against the last time
		done := min(width, int(float64(v.Now.Sub(step.Began).Milliseconds())/step.Usual*float64(width)))
		c.Text(x, y, ui.Busy, strings.Repeat("▄", done))
		c.Text(x+done, y, ui.Line, strings.Repeat("·", width-done))
		return
	}
	recent := s.Checks.Recent
	recent = recent[max(0, len(recent)-width):]
	c.Text(x, y, ui.Line, strings.Repeat("·", width-len(recent)))
	x += width - len(recent)
	for i, ms := range recent {
		mark, in := "▇", ui.Good
		if ms < 0 {
			mark, in = "×", ui.Bad
		} else {
			for _, b := range bars {
				if ms < b.below {
					mark = b.r
					break
				}
			}
		}
		c.Text(x+i, y, in, mark)
	}
}

func (v *mapView) drawLine(c *ui.Canvas, x, y, width int, s api.Status) {
	name := ui.Strong
	c.Text(x, y, ui.Plain, strings.Repeat(" ", width))
	if s.Name == v.Selected {
		name = ui.Accent
		c.Text(x, y, ui.Accent, "▌")
	}
	c.Text(x+1, y, view.StateInk(s.Shown()), signs.State(s.Shown()))
	right := string(s.State)
	if s.State == supervise.Ready {
		right = note(s, v.Now) // the shape says ready; the time is worth more
		if right == "" {
			right = "ready"
		}
	}
	if p := port(s); p != "" && width > 26 {
		right += fmt.Sprintf(" %6s", p)
	}
	room := width - 5 - display.Width(s.Name)
	if display.Width(right) > room {
		right = string(s.State)
	}
	// The name must be whole; the shape says the state where its word doesn't
	// fit.
	if display.Width(right) > room {
		right = display.Truncate(right, max(0, room))
	}
	if display.Width(right) < 4 || right != string(s.State) && s.State == supervise.Ready && strings.HasSuffix(right, "…") {
		right = ""
	}
	title := display.Truncate(s.Name, width-4)
	c.Text(x+3, y, name, title)
	if f, found := v.Finding(s.Name); found && s.State != supervise.Failed && display.Width(title)+display.Width(right)+8 <= width {
		c.Text(x+4+display.Width(title), y, view.LevelInk(f.Level), signs.Level(f.Level))
	}
	c.Text(x+width-1-display.Width(right), y, ui.Faint, right)
}
