package setup

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/project/discover"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// tableWidth returns how much of the screen is the table's.
func (s *setup) tableWidth() int { return max(47, s.width*11/20) }

// Render draws the view.
func (s *setup) Render() view.Drawing {
	t := s.Theme()
	files := "nothing to go by was found here"
	if n := len(s.p.Files); n > 0 {
		files = fmt.Sprintf("from %s of the project", display.Count(n, "file"))
	}
	left := s.table(s.tableWidth()-3, s.height-1)
	right := s.file(s.width-s.tableWidth()-2, s.height-1)
	lacks := ""
	if names, command := s.missing(); len(names) > 0 {
		lacks = "  " + t.Paint(ui.Warn, "▲ not installed here: what "+strings.Join(names, ", ")+" runs")
		if command != "" {
			lacks += t.Paint(ui.Faint, "; ") + t.Paint(ui.Plain, command)
		}
	}
	out := []string{display.Truncate(lacks, s.width-2)}
	var spots []view.Spot
	for i := range s.height - 1 {
		l, r := "", ""
		if i < len(left) {
			l = left[i]
		}
		if i < len(right) {
			r = right[i]
		}
		out = append(out, display.Truncate("  "+display.Pad(l, s.tableWidth()-3)+" "+t.Paint(ui.Line, "│")+" "+r, s.width))
		if row := s.cut + i - tableTop; i >= tableTop && row < min(len(s.p.Services), s.cut+s.room()) && s.editing == nil {
			spots = append(spots, view.Spot{Y: i + 1, Width: s.tableWidth(), Height: 1, Click: func() tea.Cmd {
				s.row = row
				return nil
			}})
		}
	}
	return view.Drawing{Lines: out, Spots: spots, Note: t.Paint(ui.Faint, "a first declaration, "+files)}
}

// tableTop is how many rows the table's heading takes.
const tableTop = 2

// widths returns those of the table's columns, after the mark and the switch.
func (s *setup) widths(width int) [setupColumns]int {
	if width < 66 {
		return [setupColumns]int{11, 10, 8, 6}
	}
	return [setupColumns]int{16, 12, 12, 8}
}

// table returns the services with what is proposed, and below it why.
func (s *setup) table(width, rows int) []string {
	t := s.Theme()
	w := s.widths(width)
	room := s.room()
	head := fmt.Sprintf("         %-*s%-*s%-*s%-*s", w[0], "name", w[1], "kind", w[2], "version", w[3], "port")
	if width >= 66 {
		head += "installed"
	}
	out := []string{t.Paint(ui.Faint, head), ""}
	for i, v := range s.p.Services {
		if i < s.cut || i >= s.cut+room {
			continue
		}
		out = append(out, s.line(i, v, w, width))
	}
	if more := len(s.p.Services) - s.cut - room; more > 0 {
		out = append(out, t.Paint(ui.Faint, fmt.Sprintf("         %d more below", more)))
	}
	return append(append(out, ""), s.why(width, rows-len(out)-1)...)
}

func (s *setup) line(i int, v *discover.Service, w [setupColumns]int, width int) string {
	t := s.Theme()
	mark, in := "  ", ui.Plain
	if i == s.row {
		mark = t.Paint(ui.Accent, "▌ ")
	}
	onOff := t.Paint(ui.Good, "■ on   ")
	if !v.On {
		onOff, in = t.Paint(ui.Faint, "□ off  "), ui.Faint
	}
	cells := [setupColumns]string{v.Name, v.Kind, v.Version, ""}
	switch {
	case v.Port > 0:
		cells[portColumn] = strconv.Itoa(v.Port)
	case v.Port == 0:
		cells[portColumn] = "any"
		if v.Kind == "program" && !v.AnyPort {
			cells[portColumn] = "–"
		}
	}
	if v.Version == "" {
		cells[versionColumn] = "any"
		if v.Kind == "program" || v.Kind == "mail" || v.Kind == "static" || v.Kind == "outside" {
			cells[versionColumn] = "–"
		}
	}
	out := mark + onOff
	for c, cell := range cells {
		selected := i == s.row && c == s.column
		switch {
		case selected && s.editing != nil:
			out += display.Pad(s.editing.Draw(t, true, w[c]-1), w[c])
		case selected:
			out += t.Style[ui.Accent].Underline(true).Render(display.Truncate(cell, w[c]-1)) + strings.Repeat(" ", max(0, w[c]-display.Width(display.Truncate(cell, w[c]-1))))
		case cell == "any" || cell == "–":
			out += t.Paint(ui.Faint, display.Pad(cell, w[c]))
		default:
			out += t.Paint(in, display.Pad(display.Truncate(cell, w[c]-1), w[c]))
		}
	}
	if width < 66 {
		return out
	}
	switch here, known := s.here[hereKey(v)]; {
	case known && here.Missing != "":
		return out + t.Paint(ui.Warn, "▲ missing")
	case v.Kind == declare.DefaultKind || v.Kind == "outside":
		return out + t.Paint(ui.Faint, "–")
	case !known:
		return out + t.Paint(ui.Faint, "…")
	case here.Version != "":
		return out + t.Paint(ui.Plain, display.Truncate(here.Version, width-display.Width(out)))
	}
	return out + t.Paint(ui.Faint, "built in")
}

// why says what the selected service was proposed for, and what there is for
// it on this machine; then what else was found.
func (s *setup) why(width, rows int) []string {
	t := s.Theme()
	v := s.current()
	title := "── " + v.Name + " "
	out := []string{t.Paint(ui.Line, "── ") + t.Paint(ui.Accent, v.Name+" ") + t.Paint(ui.Line, strings.Repeat("─", max(0, width-display.Width(title))))}
	say := func(in ui.Ink, mark, text string) {
		for i, l := range display.Wrap(display.Plain(text), width-3) {
			if i > 0 {
				mark = strings.Repeat(" ", display.Width(mark))
			}
			out = append(out, t.Paint(in, mark+l))
		}
	}
	if s.problem != "" {
		say(ui.Bad, "✖ ", s.problem)
	}
	if here := s.here[hereKey(v)]; here.Missing != "" {
		say(ui.Warn, "▲ ", here.Missing)
	}
	if !v.On && v.Off != "" {
		say(ui.Plain, "□ ", "Off, because "+v.Off+". The space bar switches it on.")
	}
	for _, f := range v.Why {
		if f.File != "" {
			out = append(out, t.Paint(ui.Faint, display.Truncate(f.Place(), width)))
			say(ui.Plain, "  ", f.What)
		} else {
			say(ui.Plain, "", f.What)
		}
	}
	if len(s.p.Notes) > 0 {
		out = append(out, "", t.Paint(ui.Faint, "also found"))
		for _, n := range s.p.Notes {
			out = append(out, t.Paint(ui.Faint, display.Truncate(n.Place(), width)))
			say(ui.Plain, "  ", n.What)
		}
	}
	if len(s.p.Files) > 0 {
		out = append(out, "", t.Paint(ui.Faint, "read"))
		for _, l := range display.Wrap(strings.Join(s.p.Files, ", "), width-3) {
			out = append(out, t.Paint(ui.Faint, "  "+l))
		}
	}
	if len(out) > rows && rows > 1 {
		out = append(out[:rows-1], t.Paint(ui.Faint, fmt.Sprintf("… %d more lines", len(out)-rows+1)))
	}
	return out
}

// file returns the file as it would be written, with the selected service in view.
func (s *setup) file(width, rows int) []string {
	t := s.Theme()
	out := []string{t.Paint(ui.Faint, declare.FileName), ""}
	room := rows - 2
	first := slices.Index(s.owner, s.current().Name)
	if !s.current().On {
		first = -1
	}
	from := 0
	if last := first; first >= 0 {
		for last < len(s.owner) && s.owner[last] == s.owner[first] {
			last++
		}
		from = max(0, min(last-room, first))
	}
	for i := from; i < len(s.text) && i < from+room; i++ {
		in, mark := ui.Plain, "  "
		if first >= 0 && s.owner[i] == s.owner[first] {
			in, mark = ui.Strong, t.Paint(ui.Accent, "▌ ")
		}
		if strings.HasPrefix(s.text[i], "[") {
			in = ui.Accent
			if first < 0 || s.owner[i] != s.owner[first] {
				in = ui.Faint
			}
		}
		out = append(out, mark+t.Paint(in, display.Truncate(s.text[i], width-2)))
	}
	if left := len(s.text) - from - room; left > 0 {
		out[len(out)-1] = t.Paint(ui.Faint, fmt.Sprintf("  … %s more", display.Count(left+1, "line")))
	}
	return out
}
