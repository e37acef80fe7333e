package ui

import "strings"

// Canvas is a grid of cells to draw the map on. Every rune that is put on it
// takes one cell.
type Canvas struct {
	width, height int
	cells         []cell
}

type cell struct {
	r   rune
	ink Ink
	// arms are the lines that meet in the cell.
	arms Arms
}

// Arms are the directions in which lines leave a cell.
type Arms uint8

const (
	Up Arms = 1 << iota
	Down
	Left
	Right
)

// joints are the characters for each set of arms.
var joints = [16]rune{
	0: ' ', Up: '│', Down: '│', Up | Down: '│', Left: '─', Right: '─', Left | Right: '─',
	Down | Right: '╭', Down | Left: '╮', Up | Right: '╰', Up | Left: '╯',
	Up | Down | Right: '├', Up | Down | Left: '┤', Down | Left | Right: '┬', Up | Left | Right: '┴',
	Up | Down | Left | Right: '┼',
}

// NewCanvas returns an empty canvas.
func NewCanvas(width, height int) *Canvas {
	return &Canvas{width: width, height: height, cells: make([]cell, width*height)}
}

func (c *Canvas) at(x, y int) *cell {
	if x < 0 || y < 0 || x >= c.width || y >= c.height {
		return &cell{} // off the canvas: drawn nowhere
	}
	return &c.cells[y*c.width+x]
}

// Text writes a text from a cell on; it must be cut to size by the caller.
func (c *Canvas) Text(x, y int, i Ink, s string) {
	for _, r := range s {
		*c.at(x, y) = cell{r: r, ink: i}
		x++
	}
}

// Join lets lines leave a cell in some directions.
func (c *Canvas) Join(x, y int, a Arms, i Ink) {
	p := c.at(x, y)
	p.arms |= a
	p.ink = max(p.ink, i)
}

// Dock joins a line to the edge of a card: each second rune takes the place
// of the one before it.
func (c *Canvas) Dock(x, y int, pairs string) {
	p, r := c.at(x, y), []rune(pairs)
	for i := 0; i < len(r); i += 2 {
		if p.r == r[i] {
			p.r = r[i+1]
		}
	}
}

// Horizontal draws a line from one column to another, both included.
func (c *Canvas) Horizontal(x1, x2, y int, i Ink) {
	for x := x1; x <= x2; x++ {
		a := Left | Right
		if x == x1 {
			a = Right
		}
		if x == x2 {
			a &^= Right
			if x1 != x2 {
				a |= Left
			}
		}
		c.Join(x, y, a, i)
	}
}

// Vertical draws a line from one row to another, both included.
func (c *Canvas) Vertical(x, y1, y2 int, i Ink) {
	if y1 > y2 {
		y1, y2 = y2, y1
	}
	for y := y1; y <= y2; y++ {
		var a Arms
		if y > y1 {
			a |= Up
		}
		if y < y2 {
			a |= Down
		}
		c.Join(x, y, a, i)
	}
}

// Lines renders a part of the canvas as styled lines.
func (c *Canvas) Lines(t *Theme, x0, y0, width, height int) []string {
	out := make([]string, height)
	for y := range height {
		var b, run strings.Builder
		current := Plain
		flush := func() {
			if run.Len() > 0 {
				b.WriteString(t.Paint(current, run.String()))
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
