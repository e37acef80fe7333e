package ui

import (
	"strings"

	"neighbour/internal/display"
)

// Fill makes lines as many as there are rows.
func Fill(lines []string, rows int) []string {
	for len(lines) < rows {
		lines = append(lines, "")
	}
	return lines[:max(0, rows)]
}

// Truncate cuts each of the lines to a width, in columns.
func Truncate(lines []string, width int) []string {
	for i, l := range lines {
		lines[i] = display.Truncate(l, width)
	}
	return lines
}

// Rule returns the line above the details of something, with its title.
func (t *Theme) Rule(title string, width int) string {
	return t.Paint(Line, "── ") + t.Paint(Accent, title+" ") + t.Paint(Line, strings.Repeat("─", max(0, width-4-display.Width(title))))
}

// Frame puts lines into a box with a title, no wider than a width.
func (t *Theme) Frame(title string, lines []string, most int) []string {
	width := display.Width(title) + 2
	for _, l := range lines {
		width = max(width, display.Width(l))
	}
	width = min(width, most-8)
	out := []string{t.Paint(Accent, "╭ "+title+" "+strings.Repeat("─", max(0, width-display.Width(title)))+"╮")}
	for _, l := range lines {
		out = append(out, t.Paint(Accent, "│ ")+display.Pad(l, width)+t.Paint(Accent, " │"))
	}
	return append(out, t.Paint(Accent, "╰"+strings.Repeat("─", width+2)+"╯"))
}

// Overlay puts a box into the middle of lines of a width.
func Overlay(body, box []string, width int) []string {
	if len(box) == 0 {
		return body
	}
	wide := 0
	for _, l := range box {
		wide = max(wide, display.Width(l))
	}
	x := max(0, (width-wide)/2)
	y := max(0, (len(body)-len(box))/3)
	out := append([]string(nil), body...)
	for i, l := range box {
		if y+i >= len(out) {
			break
		}
		under := display.Pad(out[y+i], width)
		right := display.Cut(under, x+wide, width)
		if display.Width(right) > width-x-wide { // half of a wide character
			right = " " + display.Cut(under, x+wide+1, width)
		}
		out[y+i] = display.Pad(display.Cut(under, 0, x), x) + display.Pad(l, wide) + right
	}
	return out
}

var levels = []rune("▁▂▃▄▅▆▇█")

// Spark draws the latest values as a line of bars, the highest value or at
// least the given one as the full height.
func Spark(values []float64, width int, least float64) string {
	values = values[max(0, len(values)-width):]
	top := least
	for _, v := range values {
		top = max(top, v)
	}
	out := []rune(strings.Repeat("·", width-len(values)))
	for _, v := range values {
		level := 0
		if top > 0 {
			level = int(v / top * float64(len(levels)-1))
		}
		out = append(out, levels[level])
	}
	return string(out)
}
