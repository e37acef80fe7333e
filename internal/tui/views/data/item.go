package data

import (
	"fmt"
	"strings"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
)

// itemRows is how many rows the item below the list has.
func (v *screen) itemRows() int {
	switch {
	case v.answer != nil || len(v.pages) == 0 && v.level != item:
		return 0
	case v.level == item:
		return max(0, v.Rows-2)
	}
	return min(max(4, v.Rows/3), v.Rows-8)
}

// fieldRows is how many fields of the item are shown at a time.
func (v *screen) fieldRows() int { return max(1, v.itemRows()-2-len(v.whole().Notes)) }

// itemLines are the fields of an item.
func (v *screen) itemLines(width, rows int) []string {
	t, whole := v.Theme(), v.whole()
	title := v.place.collection
	if c := v.current(); c != nil {
		title = c.Title
	}
	switch {
	case whole.Says != "":
		title += " · " + whole.Says
	case whole.Key != "":
		title += " · " + keyInWords(whole.Key)
	}
	out := []string{t.Rule(display.Truncate(display.Plain(title), width-6), width)}
	if whole.Key == "" {
		if why := v.fixed(); why != "" && len(v.rows()) > 0 {
			out = append(out, "  "+t.Paint(ui.Faint, display.Plain(why)))
		}
		return ui.Fill(out, rows)
	}
	name := 6
	for _, f := range whole.Fields {
		name = max(name, min(24, display.Width(display.Plain(f.Column.Name))))
	}
	top := 0
	if v.level == item {
		top = v.place.fieldTop
	}
	// Room that the fields leave is for the first that is several lines, and the
	// chosen one.
	opened := false
	spare := max(0, rows-1-len(whole.Notes)-(len(whole.Fields)-top))
	for i := top; i < len(whole.Fields) && len(out) < rows-len(whole.Notes); i++ {
		f := whole.Fields[i]
		mark, in := "  ", ui.Plain
		if v.level == item && i == v.place.field {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		if f.Value.Is == store.Null {
			in = ui.Off
		}
		leads := ""
		if f.To != nil {
			leads = "  → " + display.Plain(f.To.Collection[strings.LastIndexByte(f.To.Collection, '.')+1:])
			if f.To.Says != "" {
				leads += " · " + display.Plain(f.To.Says)
			}
		}
		room := max(8, width-name-4-min(display.Width(leads), width/2))
		value := display.Truncate(display.Plain(f.Value.Line(room+1)), room)
		label := mark + t.Paint(ui.Faint, display.Pad(display.Truncate(display.Plain(f.Column.Name), name), name)) + "  "
		if spare > 0 && (!opened || v.level == item && i == v.place.field) && (strings.Contains(strings.TrimSpace(f.Value.Text), "\n") || display.Width(f.Value.Text) > room) && f.Value.Is != store.Binary {
			lines := v.valueLines(f.Value, room)
			n := min(len(lines), spare+1)
			for at, l := range lines[:n] {
				if at == n-1 && n < len(lines) {
					l += " …"
				}
				out = append(out, label+t.Paint(in, l))
				label = strings.Repeat(" ", name+4)
			}
			spare -= n - 1
			opened = true
			continue
		}
		line := label + t.Paint(in, value) + t.Paint(ui.Busy, leads)
		if v.level == item && leads == "" {
			free := width - display.Width(line) - display.Width(f.Column.Type) - 3
			if free > 0 {
				line += strings.Repeat(" ", free) + t.Paint(ui.Faint, display.Plain(f.Column.Type))
			}
		}
		out = append(out, line)
	}
	for _, n := range whole.Notes {
		out = append(out, "  "+t.Paint(ui.Faint, display.Plain(n)))
	}
	return out[:min(len(out), rows)]
}

// keyInWords is a key without what makes it JSON.
func keyInWords(key string) string {
	return strings.NewReplacer(`["`, "", `"]`, "", `","`, ", ", `\"`, `"`).Replace(key)
}

// valueLines is a value whole, as lines.
func (v *screen) valueLines(value store.Value, width int) []string {
	if value.Is == store.Null {
		return []string{"∅ no value"}
	}
	text := value.Text
	if value.Is == store.JSON {
		text = store.Indent(text)
	}
	var out []string
	for l := range strings.SplitSeq(text, "\n") {
		out = append(out, display.Wrap(display.Plain(strings.TrimSuffix(l, "\r")), width)...)
	}
	if value.Cut {
		out = append(out, "", fmt.Sprintf("The rest of it is not here: only %s of a value are read.", words.Bytes(store.ValueLimit)))
	}
	return out
}
