package tui

import "strings"

// canvas is a grid of cells to draw the map on. Every rune that is put on it
// takes one cell.
type canvas struct {
	width, height int
	cells         []cell
}

type cell struct {
	r   rune
	ink ink
	// arms are the lines that meet in the cell.
	arms arms
}

// arms are the directions in which lines leave a cell.
type arms uint8

const (
	up arms = 1 << iota
	down
	left
	right
)

// joints are the characters for each set of arms.
var joints = [16]rune{
	0: ' ', up: '│', down: '│', up | down: '│', left: '─', right: '─', left | right: '─',
	down | right: '╭', down | left: '╮', up | right: '╰', up | left: '╯',
	up | down | right: '├', up | down | left: '┤', down | left | right: '┬', up | left | right: '┴',
	up | down | left | right: '┼',
}

func newCanvas(width, height int) *canvas {
	return &canvas{width: width, height: height, cells: make([]cell, width*height)}
}

func (c *canvas) at(x, y int) *cell {
	if x < 0 || y < 0 || x >= c.width || y >= c.height {
		return &cell{} // off the canvas: drawn nowhere
	}
	return &c.cells[y*c.width+x]
}

// text writes a text from a cell on; it must be cut to size by the caller.
func (c *canvas) text(x, y int, i ink, s string) {
	for _, r := range s {
		*c.at(x, y) = cell{r: r, ink: i}
		x++
	}
}

func (c *canvas) join(x, y int, a arms, i ink) {
	p := c.at(x, y)
	p.arms |= a
	p.ink = max(p.ink, i)
}

// dock joins a line to the edge of a card: each second rune takes the place
// of the one before it.
func (c *canvas) dock(x, y int, pairs string) {
	p, r := c.at(x, y), []rune(pairs)
	for i := 0; i < len(r); i += 2 {
		if p.r == r[i] {
			p.r = r[i+1]
		}
	}
}

// horizontal draws a line from one column to another, both included.
func (c *canvas) horizontal(x1, x2, y int, i ink) {
	for x := x1; x <= x2; x++ {
		a := left | right
		if x == x1 {
			a = right
		}
		if x == x2 {
			a &^= right
			if x1 != x2 {
				a |= left
			}
		}
		c.join(x, y, a, i)
	}
}

// vertical draws a line from one row to another, both included.
func (c *canvas) vertical(x, y1, y2 int, i ink) {
	if y1 > y2 {
		y1, y2 = y2, y1
	}
	for y := y1; y <= y2; y++ {
		var a arms
		if y > y1 {
			a |= up
		}
		if y < y2 {
			a |= down
		}
		c.join(x, y, a, i)
	}
}

// lines renders a part of the canvas as styled lines.
func (c *canvas) lines(t *theme, x0, y0, width, height int) []string {
	out := make([]string, height)
	for y := range height {
		var b, run strings.Builder
		current := plain
		flush := func() {
			if run.Len() > 0 {
				b.WriteString(t.paint(current, run.String()))
				run.Reset()
			}
		}
		for x := range width {
			p := *c.at(x0+x, y0+y)
			r := p.r
			if r == 0 {
				r = joints[p.arms]
			}
			if p.ink != current && r != ' ' {
				flush()
				current = p.ink
			}
			run.WriteRune(r)
		}
		flush()
		out[y] = b.String()
	}
	return out
}
