package command

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"

	"neighbour/internal/display"
)

// PrintTable prints rows, of which the first names the columns. Those that the
// numbered columns are of are set to the right.
func PrintTable(to io.Writer, rows [][]string, right ...int) error {
	w := bufio.NewWriter(to)
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], display.Width(cell))
		}
	}
	for _, row := range rows {
		line := ""
		for i, cell := range row {
			room := strings.Repeat(" ", widths[i]-display.Width(cell))
			if slices.Contains(right, i) {
				line += room + cell + "  "
			} else {
				line += cell + room + "  "
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
	return w.Flush()
}
