package mapview

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/supervise"
	"neighbour/internal/core/words"
	"neighbour/internal/display"
	"neighbour/internal/layout"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"

	tea "charm.land/bubbletea/v2"
)

// Sizes of the map in cells.
const (
	cardRows     = 4
	lowRows      = 3
	cardMin      = 17
	cardMax      = 42
	marginLeft   = 2
	headingRows  = 1
	gapMin       = 4
	roomyGap     = 12
	doorstepRows = 8 // if the map wants the rest
)

// chart is the map laid out for a size. It is made anew when the size
// changes, and when the services shown or their needs do: whoever changes those
// takes it away.
type chart struct {
	forWidth, forRows int // the room
	layout            *layout.Map
	names             [][]string // by column
	tall              int        // rows of a card: cardRows, lowRows or 1
	x                 []int      // the first cell of each column
	card              int        // width of a card
	width             int
	rows              int // with the heading
}

// shown returns the services that the filter lets through, by step.
func (v *mapView) shown() [][]string {
	var columns [][]string
	for _, name := range v.Order {
		s := v.Services[name]
		if !v.matches(s) {
			continue
		}
		for len(columns) < s.Step {
			columns = append(columns, nil)
		}
		columns[s.Step-1] = append(columns[s.Step-1], name)
	}
	return slices.DeleteFunc(columns, func(c []string) bool { return len(c) == 0 })
}

func (v *mapView) matches(s api.Status) bool {
	text := strings.ToLower(s.Name + " " + s.Kind + " " + string(s.State))
	for _, word := range strings.Fields(strings.ToLower(v.filter)) {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// arrange lays the map out for the room there is: roomy cards, cards, low
// cards, or cards of one line. Cards stay as tall as the doorstep can spare the
// rows.
func (v *mapView) arrange() *chart {
	room := v.mostRows()
	if v.chart != nil && v.chart.forWidth == v.width && v.chart.forRows == room {
		return v.chart
	}
	columns := v.shown()
	needs := map[string][]string{}
	for name, s := range v.Services {
		needs[name] = s.Needs
	}
	ch := &chart{forWidth: v.width, forRows: room, names: columns}
	in := layout.Input{Columns: columns, Needs: layout.Reduce(columns, needs), Reduced: true, Port: 1}
	for _, size := range []struct{ pitch, tall, most int }{
		{cardRows + 1, cardRows, (v.rows - headingRows) * 6 / 10}, {cardRows, cardRows, room - headingRows}, {lowRows, lowRows, room - headingRows}, {1, 1, 1 << 20},
	} {
		if in.Height = size.pitch; size.tall == 1 {
			in.Port = 0
		}
		ch.layout, ch.tall = layout.New(in), size.tall
		if ch.layout.Height <= size.most {
			break
		}
	}
	ch.rows = ch.layout.Height + headingRows
	ch.place(v.width)
	v.chart = ch
	return ch
}

// mostRows returns how many rows the map may have: those that the doorstep
// can spare, or as the user has moved the border.
func (v *mapView) mostRows() int {
	return min(max(4, v.rows-doorstepRows+v.border), v.rows-3)
}

// mapRows returns how many rows the map has, with a blank below.
func (v *mapView) mapRows() int {
	rows := v.arrange().rows + 1
	if v.border > 0 { // room that was asked for
		rows = max(rows, v.mostRows())
	}
	return min(max(rows, 5), v.mostRows())
}

// place chooses the width of cards and gaps.
func (ch *chart) place(width int) {
	n := len(ch.names)
	if n == 0 {
		return
	}
	gaps := make([]int, n) // behind each column
	total := 0
	for i, g := range ch.layout.Gaps {
		gaps[i] = max(gapMin, 2*g.Lanes+2)
		total += gaps[i]
	}
	ch.card = min(cardMax, (width-2*marginLeft-total)/n)
	if ch.card < cardMin { // narrow: lanes side by side
		total = 0
		for i, g := range ch.layout.Gaps {
			gaps[i] = max(3, g.Lanes+2)
			total += gaps[i]
		}
		ch.card = max(cardMin, (width-2-total)/n)
	}
	spare := width - 2*marginLeft - total - n*ch.card
	for i := range ch.layout.Gaps {
		if extra := min(roomyGap-gaps[i], spare/max(1, n-1)); extra > 0 {
			gaps[i] += extra
		}
	}
	x := marginLeft
	if n*ch.card+total+2*marginLeft > width {
		x = 1
	}
	for i := range n {
		ch.x = append(ch.x, x)
		x += ch.card + gaps[i]
	}
	ch.width = x + 1
}

// drawMap draws the map into rows of the screen's width, scrolled so that
// the selected card is seen.
func (v *mapView) drawMap(rows int) []string {
	ch := v.chart
	if ch == nil || len(ch.names) == 0 {
		return v.emptyMap(rows)
	}
	c := ui.NewCanvas(max(ch.width, v.width), max(ch.rows, rows))
	for i, x := range ch.x {
		c.Text(x+1, 0, ui.Faint, fmt.Sprintf("step %d", v.Services[ch.names[i][0]].Step))
	}
	for _, column := range ch.names {
		for _, name := range column {
			x, y := ch.corner(name)
			switch ch.tall {
			case 1:
				v.drawLine(c, x, y, ch.card, v.Services[name])
			default:
				v.drawCard(c, x, y, ch.card, ch.tall, v.Services[name])
			}
		}
	}
	v.drawNeeds(c, ch)
	return c.Lines(v.Theme(), v.scrollX, v.scrollY, v.width, rows)
}

func (v *mapView) emptyMap(rows int) []string {
	out := make([]string, rows)
	if v.filter != "" && rows > 2 {
		out[1] = "  " + v.Theme().Paint(ui.Plain, fmt.Sprintf("No service matches %q.", v.filter)) + v.Theme().Paint(ui.Faint, "  esc shows all again")
	} else if rows > 2 {
		out[1] = "  " + v.Theme().Paint(ui.Faint, "Asking the keeper…")
	}
	return out
}

// corner returns the upper left cell of a card.
func (ch *chart) corner(name string) (x, y int) {
	return ch.x[ch.layout.Column[name]], ch.layout.Row[name] + headingRows
}

// scrollTo keeps the selected card in view.
func (v *mapView) scrollTo(ch *chart, rows int) {
	if _, ok := ch.layout.Row[v.Selected]; ok {
		x, y := ch.corner(v.Selected)
		if y+ch.tall > v.scrollY+rows {
			v.scrollY = y + ch.tall - rows
		}
		if y-headingRows < v.scrollY {
			v.scrollY = y - headingRows
		}
		if x+ch.card+1 > v.scrollX+v.width {
			v.scrollX = x + ch.card + 1 - v.width
		}
		if x-1 < v.scrollX {
			v.scrollX = x - 1
		}
	}
	v.scrollY = max(0, min(v.scrollY, ch.rows-rows))
	v.scrollX = max(0, min(v.scrollX, ch.width-v.width))
}

// drawNeeds draws the lines between cards; those of the selected card in the
// accent's colour.
func (v *mapView) drawNeeds(c *ui.Canvas, ch *chart) {
	touches := func(from, to string) bool {
		return v.Selected != "" && (from == v.Selected || to == v.Selected ||
			to == "" && slices.Contains(v.Services[v.Selected].Needs, from))
	}
	for _, inkNow := range []ui.Ink{ui.Line, ui.Accent} { // the accented over the others
		for col, passes := range ch.layout.Passes {
			for _, p := range passes {
				if touches(p.From, "") == (inkNow == ui.Accent) {
					c.Horizontal(ch.x[col]-1, ch.x[col]+ch.card, p.Row+headingRows, inkNow)
				}
			}
		}
		for col, g := range ch.layout.Gaps {
			x0, x1 := ch.x[col]+ch.card, ch.x[col+1]-1
			for _, n := range g.Nets {
				for _, to := range n.Targets {
					if touches(n.From, to.Name) == (inkNow == ui.Accent) {
						drawNet(c, x0, x1, lane(x0, x1, n.Lane, g.Lanes), n.Row+headingRows, to.Row+headingRows, inkNow)
						if ch.tall > 1 {
							c.Dock(x0-1, n.Row+headingRows, "│├┃┣")
							c.Dock(x1+1, to.Row+headingRows, "│┤┃┫")
						}
					}
				}
			}
		}
	}
}

// lane returns the cell column of a lane, the lanes spread over the gap.
func lane(x0, x1, n, of int) int {
	return x0 + (n+1)*(x1-x0+1)/(of+1)
}

func drawNet(c *ui.Canvas, x0, x1, x, row, to int, i ui.Ink) {
	if row == to {
		c.Horizontal(x0, x1, row, i)
		c.Join(x0, row, ui.Left|ui.Right, i)
		c.Join(x1, row, ui.Left|ui.Right, i)
		return
	}
	c.Horizontal(x0, x, row, i)
	c.Join(x0, row, ui.Left, i)
	c.Vertical(x, row, to, i)
	c.Horizontal(x, x1, to, i)
	c.Join(x1, to, ui.Right, i)
}

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
	if display.Width(right) < 4 {
		right = ""
	}
	title := display.Truncate(s.Name, width-4)
	c.Text(x+3, y, name, title)
	if f, found := v.Finding(s.Name); found && s.State != supervise.Failed && display.Width(title)+display.Width(right)+8 <= width {
		c.Text(x+4+display.Width(title), y, view.LevelInk(f.Level), signs.Level(f.Level))
	}
	c.Text(x+width-1-display.Width(right), y, ui.Faint, right)
}

// spots are the cards that are in sight: a click selects one.
func (v *mapView) spots(rows int) []view.Spot {
	ch := v.chart
	var out []view.Spot
	if ch == nil {
		return nil
	}
	for name := range ch.layout.Row {
		x, y := ch.corner(name)
		x, y = x-v.scrollX, y-v.scrollY
		if y < 0 || y >= rows {
			continue
		}
		out = append(out, view.Spot{X: x, Y: y, Width: ch.card, Height: min(ch.tall, rows-y), Click: func() tea.Cmd {
			v.choose(name)
			return nil
		}})
	}
	return out
}

// move selects the next card in a direction: within the column, or the
// nearest of the column beside it.
func (v *mapView) move(dx, dy int) {
	ch := v.chart
	if ch == nil {
		return
	}
	col, ok := ch.layout.Column[v.Selected]
	if !ok {
		v.selectFirst()
		return
	}
	byRow := func(names []string) []string {
		names = slices.Clone(names)
		slices.SortFunc(names, func(a, b string) int { return ch.layout.Row[a] - ch.layout.Row[b] })
		return names
	}
	if dy != 0 {
		column := byRow(ch.names[col])
		i := slices.Index(column, v.Selected) + dy
		if i >= 0 && i < len(column) {
			v.choose(column[i])
		}
		return
	}
	if col += dx; col < 0 || col >= len(ch.names) {
		return
	}
	row := ch.layout.Row[v.Selected]
	v.choose(slices.MinFunc(ch.names[col], func(a, b string) int {
		return abs(ch.layout.Row[a]-row) - abs(ch.layout.Row[b]-row)
	}))
}

func abs(n int) int { return max(n, -n) }

// step selects the next or the previous card in the order of the start.
func (v *mapView) step(by int) {
	names := slices.Concat(v.shown()...)
	if len(names) == 0 {
		return
	}
	i := slices.Index(names, v.Selected)
	v.choose(names[(i+by+len(names))%len(names)])
}

// selectFirst selects the first service that isn't well, or the first, if what
// was selected isn't shown.
func (v *mapView) selectFirst() {
	names := slices.Concat(v.shown()...)
	if len(names) == 0 || slices.Contains(names, v.Selected) {
		return
	}
	first := names[0]
	for _, bad := range []supervise.State{supervise.Failed, supervise.Ailing} {
		if i := slices.IndexFunc(names, func(n string) bool { return v.Services[n].State == bad }); i >= 0 {
			first = names[i]
			break
		}
	}
	v.choose(first)
}

func (v *mapView) choose(name string) {
	if name != v.Selected {
		v.Selected, v.reveal = name, false
	}
}
