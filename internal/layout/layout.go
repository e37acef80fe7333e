// Package layout places the services of a project on a map: in columns by
// step, with the lines of what they need between them. It knows cells, not
// characters or colours, so that a screen and a drawing can share it.
package layout

import (
	"cmp"
	"slices"
)

// Input is what to place.
type Input struct {
	// Columns are the names by step, the first step first.
	Columns [][]string
	// Needs are the names that each name needs. Names that are in no column
	// are left out, and so are needs that others imply.
	Needs map[string][]string
	// Reduced says that Needs are as Reduce returns them.
	Reduced bool
	// Height is a card's height in rows, Port the row of a card where lines
	// end, counted from 0.
	Height, Port int
}

// Map is where everything goes. Rows count from 0.
type Map struct {
	// Row is the first row of each name's card.
	Row map[string]int
	// Column is the column of each name's card.
	Column map[string]int
	// Passes are the rows on which lines pass through each column.
	Passes [][]Pass
	// Gaps are the lines between each column and the next.
	Gaps []Gap
	// Height is the number of rows.
	Height int
}

// Pass is a line that goes through a column between cards.
type Pass struct {
	From string // the name that is needed
	Row  int
}

// Gap is the space between two columns.
type Gap struct {
	Lanes int // how many vertical lines are side by side
	Nets  []Net
}

// Net is the line from one card, or from its pass, to all that it leads to
// in the next column.
type Net struct {
	From    string
	Row     int   // where it begins
	Targets []End // where it ends, by row
	Lane    int   // the vertical's lane, from 0; -1 if it needs none
}

// End is one end of a net.
type End struct {
	Name string // the card, "" for a pass
	Row  int
}

// place is a card or a pass in a column while it is laid out.
type place struct {
	name   string // of the card, or of the passing line's source
	pass   bool
	height int
	port   int
	row    int
	left   []*place // where its lines come from
	right  []*place // where they lead to
}

func (p *place) portRow() int { return p.row + p.port }

// New lays out a map.
func New(in Input) *Map {
	columns := build(in)
	order(columns)
	settle(columns)
	return result(columns)
}

// build makes the places of each column: the cards, and a pass in each
// column that a line crosses. All lines of one card share one pass.
func build(in Input) [][]*place {
	columns := make([][]*place, len(in.Columns))
	at := map[string]int{}
	cards := map[string]*place{}
	for c, names := range in.Columns {
		for _, name := range names {
			p := &place{name: name, height: in.Height, port: in.Port}
			columns[c] = append(columns[c], p)
			at[name], cards[name] = c, p
		}
	}
	needs := in.Needs
	if !in.Reduced {
		needs = reduce(in.Needs, at)
	}
	passes := map[string][]*place{} // by source, one for each column behind it
	for _, names := range in.Columns {
		for _, name := range names {
			for _, need := range needs[name] {
				from := cards[need]
				for c := at[need] + 1; c < at[name]; c++ {
					i := c - at[need] - 1
					if i == len(passes[need]) {
						p := &place{name: need, pass: true, height: 1}
						passes[need] = append(passes[need], p)
						columns[c] = append(columns[c], p)
						connect(from, p)
					}
					from = passes[need][i]
				}
				connect(from, cards[name])
			}
		}
	}
	return columns
}

// Reduce returns the needs without those that other needs imply, and without
// names that are in no column. It takes most of the time of a layout, so one
// that is made for several heights can begin with it.
func Reduce(columns [][]string, needs map[string][]string) map[string][]string {
	at := map[string]int{}
	for c, names := range columns {
		for _, name := range names {
			at[name] = c
		}
	}
	return reduce(needs, at)
}

func connect(from, to *place) {
	if !slices.Contains(from.right, to) {
		from.right = append(from.right, to)
		to.left = append(to.left, from)
	}
}

// reduce drops the needs that are implied by other needs, and those that are
// not on the map.
func reduce(needs map[string][]string, at map[string]int) map[string][]string {
	reached := map[string]map[string]bool{} // all that a name needs in turn
	var all func(string) map[string]bool
	all = func(name string) map[string]bool {
		if r, ok := reached[name]; ok {
			return r
		}
		r := map[string]bool{}
		reached[name] = r
		for _, n := range needs[name] {
			r[n] = true
			for far := range all(n) {
				r[far] = true
			}
		}
		return r
	}
	out := map[string][]string{}
	for name := range at {
		for _, n := range needs[name] {
			if _, shown := at[n]; !shown {
				continue
			}
			implied := slices.ContainsFunc(needs[name], func(other string) bool {
				_, shown := at[other]
				return other != n && shown && all(other)[n]
			})
			if !implied {
				out[name] = append(out[name], n)
			}
		}
		slices.Sort(out[name])
	}
	return out
}

// order sorts each column so that lines cross little: each place goes to the
// mean position of its neighbours, in sweeps to the right and back. The order
// with the fewest crossings stays, which may be the one that it began with.
func order(columns [][]*place) {
	position := map[*place]float64{}
	note := func(column []*place) {
		for i, p := range column {
			position[p] = float64(i) / float64(max(1, len(column)-1))
		}
	}
	for _, c := range columns {
		note(c)
	}
	sweep := func(column []*place, neighbours func(*place) []*place) {
		weight := map[*place]float64{}
		for _, p := range column {
			n := neighbours(p)
			if len(n) == 0 {
				weight[p] = position[p]
				continue
			}
			for _, q := range n {
				weight[p] += position[q] / float64(len(n))
			}
		}
		slices.SortStableFunc(column, func(a, b *place) int { return cmp.Compare(weight[a], weight[b]) })
		note(column)
	}
	best, fewest := clone(columns), crossings(columns)
	for range 4 {
		for c := 1; c < len(columns); c++ {
			sweep(columns[c], func(p *place) []*place { return p.left })
		}
		for c := len(columns) - 2; c >= 0; c-- {
			sweep(columns[c], func(p *place) []*place { return p.right })
		}
		if n := crossings(columns); n < fewest {
			best, fewest = clone(columns), n
		}
	}
	copy(columns, best)
}

func clone(columns [][]*place) [][]*place {
	out := make([][]*place, len(columns))
	for i, c := range columns {
		out[i] = slices.Clone(c)
	}
	return out
}

// crossings counts how often lines between neighbouring columns cross: those
// whose ends are in one order on the left and in the other on the right.
func crossings(columns [][]*place) int {
	all := 0
	for c := 1; c < len(columns); c++ {
		at := map[*place]int{}
		for i, p := range columns[c] {
			at[p] = i
		}
		// How many lines end above a place, of those that come from further up
		// on the left: a tree of sums (Fenwick).
		sums := make([]int, len(columns[c])+1)
		lines := 0
		for _, from := range columns[c-1] {
			for _, to := range from.right {
				above := 0
				for i := at[to] + 1; i > 0; i &= i - 1 {
					above += sums[i]
				}
				all += lines - above
			}
			for _, to := range from.right {
				for i := at[to] + 1; i < len(sums); i += i & -i {
					sums[i]++
				}
				lines++
			}
		}
	}
	return all
}

// settle gives each place its row: level with what it needs where there is
// room, in the column's order, and no further down than the fullest column.
func settle(columns [][]*place) {
	height := 0
	for _, column := range columns {
		sum := 0
		for _, p := range column {
			sum += p.height
		}
		height = max(height, sum)
	}
	for _, column := range columns {
		next := 0
		for _, p := range column {
			p.row = max(next, wanted(p))
			next = p.row + p.height
		}
		// What was pushed over the end goes back up.
		limit := height
		for i := len(column) - 1; i >= 0; i-- {
			p := column[i]
			p.row = min(p.row, limit-p.height)
			limit = p.row
		}
	}
}

// wanted returns the row that puts a place level with the middle of what it comes
// from.
func wanted(p *place) int {
	if len(p.left) == 0 {
		return 0
	}
	rows := make([]int, len(p.left))
	for i, q := range p.left {
		rows[i] = q.portRow()
	}
	slices.Sort(rows)
	return max(0, rows[(len(rows)-1)/2]-p.port)
}

func result(columns [][]*place) *Map {
	m := &Map{Row: map[string]int{}, Column: map[string]int{}, Passes: make([][]Pass, len(columns))}
	for c, column := range columns {
		for _, p := range column {
			m.Height = max(m.Height, p.row+p.height)
			if p.pass {
				m.Passes[c] = append(m.Passes[c], Pass{p.name, p.row})
				continue
			}
			m.Row[p.name], m.Column[p.name] = p.row, c
		}
	}
	for c := range max(0, len(columns)-1) {
		m.Gaps = append(m.Gaps, gap(columns[c]))
	}
	return m
}

// gap makes the nets that leave a column and gives them lanes.
func gap(column []*place) Gap {
	var g Gap
	for _, p := range column {
		if len(p.right) == 0 {
			continue
		}
		n := Net{From: p.name, Row: p.portRow(), Lane: -1}
		for _, q := range p.right {
			e := End{Row: q.portRow()}
			if !q.pass {
				e.Name = q.name
			}
			n.Targets = append(n.Targets, e)
		}
		slices.SortFunc(n.Targets, func(a, b End) int { return a.Row - b.Row })
		g.Nets = append(g.Nets, n)
	}
	for _, i := range lanes(g.Nets) {
		g.Nets[i].Lane = g.Lanes
		g.Lanes++
	}
	return g
}

func (n Net) straight() bool {
	return len(n.Targets) == 1 && n.Targets[0].Row == n.Row
}

// endsAt reports whether one of the net's lines ends on the row.
func (n Net) endsAt(row int) bool {
	return slices.ContainsFunc(n.Targets, func(e End) bool { return e.Row == row })
}

// lanes orders the nets that need a vertical from left to right. A net whose
// line begins on the row where another's ends must be to the left of it, or
// the two would seem to be one.
func lanes(nets []Net) []int {
	var rest, out []int
	for i, n := range nets {
		if !n.straight() {
			rest = append(rest, i)
		}
	}
	before := func(a, b Net) bool { return b.endsAt(a.Row) }
	for len(rest) > 0 {
		pick := 0 // where it goes round in a circle, any will do
		for i, candidate := range rest {
			free := true
			for j, other := range rest {
				if i != j && before(nets[other], nets[candidate]) {
					free = false
				}
			}
			if free {
				pick = i
				break
			}
		}
		out = append(out, rest[pick])
		rest = slices.Delete(rest, pick, pick+1)
	}
	return out
}
