package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/keep"
	"neighbour/internal/layout"
)

// Sizes of the map in cells.
const (
	cardRows     = 4
	cardMin      = 17
	cardMax      = 42
	marginLeft   = 2
	headingRows  = 1
	gapMin       = 4
	roomyGap     = 12
	doorstepRows = 9 // at least
)

// mapView is the map laid out for a size. It is made anew when the size
// changes, and when the services shown or their needs do: whoever changes those
// takes it away.
type mapView struct {
	forWidth, forHeight int // the size of the screen
	layout              *layout.Map
	names               [][]string // by column
	small               bool       // cards of one line
	x                   []int      // the first cell of each column
	card                int        // width of a card
	width               int
	rows                int // with the heading
}

// shown returns the services that the filter lets through, by step.
func (m *model) shown() [][]string {
	var columns [][]string
	for _, name := range m.order {
		s := m.services[name]
		if !m.matches(s) {
			continue
		}
		for len(columns) < s.Step {
			columns = append(columns, nil)
		}
		columns[s.Step-1] = append(columns[s.Step-1], name)
	}
	return slices.DeleteFunc(columns, func(c []string) bool { return len(c) == 0 })
}

func (m *model) matches(s api.Status) bool {
	text := strings.ToLower(s.Name + " " + s.Kind + " " + string(s.State))
	for _, word := range strings.Fields(strings.ToLower(m.filter)) {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// arrange lays the map out for the room there is: roomy cards, cards, or
// cards of one line.
func (m *model) arrange() *mapView {
	if m.chart != nil && m.chart.forWidth == m.width && m.chart.forHeight == m.height {
		return m.chart
	}
	columns := m.shown()
	needs := map[string][]string{}
	for name, s := range m.services {
		needs[name] = s.Needs
	}
	room := m.height - headerRows - keyRows - headingRows
	v := &mapView{forWidth: m.width, forHeight: m.height, names: columns}
	in := layout.Input{Columns: columns, Needs: layout.Reduce(columns, needs), Reduced: true, Height: cardRows + 1, Port: 1}
	v.layout = layout.New(in)
	if v.layout.Height > room*6/10 {
		in.Height = cardRows
		v.layout = layout.New(in)
	}
	if v.layout.Height > room-doorstepRows {
		in.Height, in.Port = 1, 0
		v.layout = layout.New(in)
		v.small = true
	}
	v.rows = v.layout.Height + headingRows
	v.place(m.width)
	m.chart = v
	return v
}

// place chooses the width of cards and gaps.
func (v *mapView) place(width int) {
	n := len(v.names)
	if n == 0 {
		return
	}
	gaps := make([]int, n) // behind each column
	total := 0
	for i, g := range v.layout.Gaps {
		gaps[i] = max(gapMin, 2*g.Lanes+2)
		total += gaps[i]
	}
	v.card = min(cardMax, (width-2*marginLeft-total)/n)
	if v.card < cardMin { // narrow: lanes side by side
		total = 0
		for i, g := range v.layout.Gaps {
			gaps[i] = max(3, g.Lanes+2)
			total += gaps[i]
		}
		v.card = max(cardMin, (width-2-total)/n)
	}
	spare := width - 2*marginLeft - total - n*v.card
	for i := range v.layout.Gaps {
		if extra := min(roomyGap-gaps[i], spare/max(1, n-1)); extra > 0 {
			gaps[i] += extra
		}
	}
	x := marginLeft
	if n*v.card+total+2*marginLeft > width {
		x = 1
	}
	for i := range n {
		v.x = append(v.x, x)
		x += v.card + gaps[i]
	}
	v.width = x + 1
}

// drawMap draws the map into rows of the screen's width, scrolled so that
// the selected card is seen.
func (m *model) drawMap(rows int) []string {
	v := m.arrange()
	if len(v.names) == 0 {
		return m.emptyMap(rows)
	}
	c := newCanvas(max(v.width, m.width), max(v.rows, rows))
	for i, x := range v.x {
		c.text(x+1, 0, faint, fmt.Sprintf("step %d", m.services[v.names[i][0]].Step))
	}
	for _, column := range v.names {
		for _, name := range column {
			x, y := v.corner(name)
			if v.small {
				m.drawSmallCard(c, x, y, v.card, m.services[name])
			} else {
				m.drawCard(c, x, y, v.card, m.services[name])
			}
		}
	}
	m.drawNeeds(c, v)
	m.scrollTo(v, rows)
	return c.lines(m.theme, m.scrollX, m.scrollY, m.width, rows)
}

func (m *model) emptyMap(rows int) []string {
	out := make([]string, rows)
	if m.filter != "" && rows > 2 {
		out[1] = "  " + m.theme.paint(plain, fmt.Sprintf("No service matches %q.", m.filter)) + m.theme.paint(faint, "  esc shows all again")
	} else if rows > 2 {
		out[1] = "  " + m.theme.paint(faint, "Asking the keeper…")
	}
	return out
}

// corner returns the upper left cell of a card.
func (v *mapView) corner(name string) (x, y int) {
	return v.x[v.layout.Column[name]], v.layout.Row[name] + headingRows
}

func (v *mapView) cardHeight() int {
	if v.small {
		return 1
	}
	return cardRows
}

// scrollTo keeps the selected card in view.
func (m *model) scrollTo(v *mapView, rows int) {
	if _, ok := v.layout.Row[m.selected]; ok {
		x, y := v.corner(m.selected)
		if y+v.cardHeight() > m.scrollY+rows {
			m.scrollY = y + v.cardHeight() - rows
		}
		if y-headingRows < m.scrollY {
			m.scrollY = y - headingRows
		}
		if x+v.card+1 > m.scrollX+m.width {
			m.scrollX = x + v.card + 1 - m.width
		}
		if x-1 < m.scrollX {
			m.scrollX = x - 1
		}
	}
	m.scrollY = max(0, min(m.scrollY, v.rows-rows))
	m.scrollX = max(0, min(m.scrollX, v.width-m.width))
}

// drawNeeds draws the lines between cards; those of the selected card in the
// accent's colour.
func (m *model) drawNeeds(c *canvas, v *mapView) {
	touches := func(from, to string) bool {
		return m.selected != "" && (from == m.selected || to == m.selected ||
			to == "" && slices.Contains(m.services[m.selected].Needs, from))
	}
	for _, inkNow := range []ink{line, accent} { // the accented over the others
		for col, passes := range v.layout.Passes {
			for _, p := range passes {
				if touches(p.From, "") == (inkNow == accent) {
					c.horizontal(v.x[col]-1, v.x[col]+v.card, p.Row+headingRows, inkNow)
				}
			}
		}
		for col, g := range v.layout.Gaps {
			x0, x1 := v.x[col]+v.card, v.x[col+1]-1
			for _, n := range g.Nets {
				for _, to := range n.Targets {
					if touches(n.From, to.Name) == (inkNow == accent) {
						drawNet(c, x0, x1, lane(x0, x1, n.Lane, g.Lanes), n.Row+headingRows, to.Row+headingRows, inkNow)
						if !v.small {
							c.dock(x0-1, n.Row+headingRows, "│├┃┣")
							c.dock(x1+1, to.Row+headingRows, "│┤┃┫")
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

func drawNet(c *canvas, x0, x1, x, row, to int, i ink) {
	if row == to {
		c.horizontal(x0, x1, row, i)
		c.join(x0, row, left|right, i)
		c.join(x1, row, left|right, i)
		return
	}
	c.horizontal(x0, x, row, i)
	c.join(x0, row, left, i)
	c.vertical(x, row, to, i)
	c.horizontal(x, x1, to, i)
	c.join(x1, to, right, i)
}

// note returns what stands beside a state on a card: how long it took, or takes.
func note(s api.Status, now time.Time) string {
	switch s.State {
	case keep.Ready, keep.Ailing, keep.Finished:
		if s.ReadyMS > 0 {
			return keep.Millis(s.ReadyMS)
		}
	case keep.Preparing, keep.Starting, keep.Stopping:
		return keep.Span(now.Sub(s.Since))
	case keep.Failed, keep.Waiting:
		if s.Restarts > 0 {
			return fmt.Sprintf("restarts %d", s.Restarts)
		}
	}
	return ""
}

// what returns the second line of a card: the kind with its real version, what a
// start is doing, or the reason it can't.
func what(s api.Status) string {
	switch {
	case s.State == keep.Waiting || s.State == keep.Preparing || s.State == keep.Failed || s.State == keep.Ailing:
		return Plain(s.Reason)
	case s.State == keep.Starting && s.Reason != "":
		return Plain(s.Reason)
	case s.Version != "":
		return s.Kind + " " + s.Version
	case s.Command != "":
		return Plain(shortCommand(s.Command))
	}
	return s.Kind
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

func (m *model) drawCard(c *canvas, x, y, width int, s api.Status) {
	corner, edge, name := [4]string{"╭", "╮", "╰", "╯"}, "│", strong
	border, dash := line, "─"
	if s.Name == m.selected {
		corner, edge, dash = [4]string{"┏", "┓", "┗", "┛"}, "┃", "━"
		border, name = accent, accent
	}
	inner := width - 4
	title := Truncate(s.Name, inner-1)
	c.text(x, y, border, corner[0]+" "+strings.Repeat(" ", Width(title))+" "+strings.Repeat(dash, width-4-Width(title))+corner[1])
	c.text(x+2, y, name, title)
	if f, found := m.finding(s.Name); found && s.State != keep.Failed { // a failure says it all
		c.text(x+width-4, y, border, " ")
		c.text(x+width-3, y, levelInk(f.Level), LevelShape(f.Level))
		c.text(x+width-2, y, border, " ")
	}
	for r := 1; r < cardRows-1; r++ {
		c.text(x, y+r, border, edge+strings.Repeat(" ", width-2)+edge)
	}
	c.text(x, y+3, border, corner[2]+strings.Repeat(" ", width-2)+corner[3])

	state := Shape(s.State) + " " + string(s.State)
	beside := note(s, m.now)
	if Width(state)+Width(beside)+1 > inner {
		beside = ""
	}
	c.text(x+2, y+1, stateInk(s.State), Truncate(state, inner))
	c.text(x+width-2-Width(beside), y+1, faint, beside)

	p := port(s)
	room := inner
	if Width(what(s)) > room-Width(p)-1 && s.State != keep.Ready {
		p = "" // the reason is worth more
	}
	if p != "" {
		room -= Width(p) + 1
	}
	c.text(x+2, y+2, plain, cells(Truncate(what(s), room)))
	c.text(x+width-2-Width(p), y+2, faint, p)
	m.drawStrip(c, x+2, y+3, inner, s)
}

// cells makes a text take a cell for each of its runes, as the canvas needs
// it: what would be wider or narrower is shown as a dot.
func cells(s string) string {
	var b strings.Builder
	for _, r := range s {
		if Width(string(r)) != 1 {
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
func (m *model) drawStrip(c *canvas, x, y, width int, s api.Status) {
	recent := s.Checks.Recent
	recent = recent[max(0, len(recent)-width):]
	c.text(x, y, line, strings.Repeat("·", width-len(recent)))
	x += width - len(recent)
	for i, ms := range recent {
		mark, in := "▇", stateGood
		if ms < 0 {
			mark, in = "×", stateBad
		} else {
			for _, b := range bars {
				if ms < b.below {
					mark = b.r
					break
				}
			}
		}
		c.text(x+i, y, in, mark)
	}
}

func (m *model) drawSmallCard(c *canvas, x, y, width int, s api.Status) {
	name := strong
	c.text(x, y, plain, strings.Repeat(" ", width))
	if s.Name == m.selected {
		name = accent
		c.text(x, y, accent, "▌")
	}
	c.text(x+1, y, stateInk(s.State), Shape(s.State))
	right := string(s.State)
	if s.State == keep.Ready {
		right = note(s, m.now) // the shape says ready; the time is worth more
		if right == "" {
			right = "ready"
		}
	}
	if p := port(s); p != "" && width > 26 {
		right += fmt.Sprintf(" %6s", p)
	}
	room := width - 5 - Width(s.Name)
	if Width(right) > room {
		right = string(s.State)
	}
	// The name must be whole; the shape says the state where its word doesn't
	// fit.
	if Width(right) > room {
		right = Truncate(right, max(0, room))
	}
	if Width(right) < 4 {
		right = ""
	}
	title := Truncate(s.Name, width-4)
	c.text(x+3, y, name, title)
	if f, found := m.finding(s.Name); found && s.State != keep.Failed && Width(title)+Width(right)+8 <= width {
		c.text(x+4+Width(title), y, levelInk(f.Level), LevelShape(f.Level))
	}
	c.text(x+width-1-Width(right), y, faint, right)
}

// hit finds the card at a cell of the screen.
func (m *model) hit(x, y int) string {
	v := m.chart
	if v == nil {
		return ""
	}
	x, y = x+m.scrollX, y-headerRows+m.scrollY
	for name := range v.layout.Row {
		cx, cy := v.corner(name)
		if x >= cx && x < cx+v.card && y >= cy && y < cy+v.cardHeight() {
			return name
		}
	}
	return ""
}

// move selects the next card in a direction: within the column, or the
// nearest of the column beside it.
func (m *model) move(dx, dy int) {
	v := m.arrange()
	col, ok := v.layout.Column[m.selected]
	if !ok {
		m.selectFirst()
		return
	}
	byRow := func(names []string) []string {
		names = slices.Clone(names)
		slices.SortFunc(names, func(a, b string) int { return v.layout.Row[a] - v.layout.Row[b] })
		return names
	}
	if dy != 0 {
		column := byRow(v.names[col])
		i := slices.Index(column, m.selected) + dy
		if i >= 0 && i < len(column) {
			m.choose(column[i])
		}
		return
	}
	if col += dx; col < 0 || col >= len(v.names) {
		return
	}
	row := v.layout.Row[m.selected]
	m.choose(slices.MinFunc(v.names[col], func(a, b string) int {
		return abs(v.layout.Row[a]-row) - abs(v.layout.Row[b]-row)
	}))
}

func abs(n int) int { return max(n, -n) }

// step selects the next or the previous card in the order of the start.
func (m *model) step(by int) {
	names := slices.Concat(m.shown()...)
	if len(names) == 0 {
		return
	}
	i := slices.Index(names, m.selected)
	m.choose(names[(i+by+len(names))%len(names)])
}

func (m *model) selectFirst() {
	names := slices.Concat(m.shown()...)
	if len(names) > 0 && !slices.Contains(names, m.selected) {
		m.choose(names[0])
	}
}

func (m *model) choose(name string) {
	if name != m.selected {
		m.selected, m.reveal = name, false
	}
}
