package mapview

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/layout"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"

	tea "charm.land/bubbletea/v2"
)

// Sizes of the map in cells.
const (
	cardRows     = 4
	lowRows      = 3
	cardMin      = 17
	lineMin      = 14
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
		least := cardMin
		if ch.tall == 1 { // which needs no more than a name
			least = lineMin
		}
		ch.card = max(least, (width-2-total)/n)
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
