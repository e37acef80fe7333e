package ui

import (
	"strings"

	"neighbour/internal/display"
	"neighbour/internal/layout"
)

// Chart is values over time, as columns from a common ground.
type Chart struct {
	Values []float64 // a column each; below 0: none is known
	Least  float64   // the height is at least this much
	Rows   int
	// Unit is what the numbers at the axis are round multiples of.
	Unit   float64
	Label  func(float64) string // what stands at the axis
	Ink    Ink
	Cursor int // the column that is marked; -1: none
}

// AxisWidth is how wide the axis of a chart is.
const AxisWidth = 10

// Lines draws the chart, with its axis on the left.
func (c Chart) Lines(t *Theme) []string {
	top := c.Least
	for _, v := range c.Values {
		top = max(top, v)
	}
	ticks := layout.Ticks(top/c.Unit, max(1, c.Rows/2))
	for i := range ticks {
		ticks[i] *= c.Unit
	}
	// The top is a round number, too, so that the highest column is below it.
	if len(ticks) > 1 {
		if step := ticks[1] - ticks[0]; ticks[len(ticks)-1] < top {
			ticks = append(ticks, ticks[len(ticks)-1]+step)
		}
		top = ticks[len(ticks)-1]
	}
	labels := map[int]string{}
	for _, v := range ticks {
		if row := int(v / top * float64(c.Rows)); top > 0 && row < c.Rows+1 {
			labels[min(row, c.Rows-1)] = c.Label(v)
		}
	}
	out := make([]string, c.Rows)
	for i := range c.Rows {
		row := c.Rows - 1 - i // from the ground
		label, joint := "", "│"
		if text, ok := labels[row]; ok && (row > 0 || c.Rows < 3) {
			label, joint = text, "┤"
		}
		if row == 0 && c.Rows >= 3 {
			label = c.Label(0)
		}
		var b strings.Builder
		for x, v := range c.Values {
			in, sign := c.Ink, ' '
			if v >= 0 && top > 0 {
				eighths := int(v/top*float64(c.Rows)*8+0.5) - 8*row
				if row == 0 {
					eighths = max(eighths, 1) // a little is more than nothing
				}
				switch {
				case eighths >= 8:
					sign = '█'
				case eighths > 0:
					sign = levels[eighths-1]
				}
			}
			if x == c.Cursor {
				in = Accent
				if sign == ' ' {
					sign = '┊'
				}
			}
			b.WriteString(t.Paint(in, string(sign)))
		}
		out[i] = t.Paint(Faint, right(label, AxisWidth-2)+" "+joint) + b.String()
	}
	return out
}

func right(text string, width int) string {
	return strings.Repeat(" ", max(0, width-display.Width(text))) + display.Truncate(text, width)
}
