package data

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

const (
	// besides is from which width on the list of collections stands beside the
	// items.
	besides  = 96
	listWide = 30
	// widest is how wide a column is at most.
	widest = 34
)

func (v *screen) sides() bool { return v.Columns >= besides }

// Fit scrolls so that what is chosen is in sight.
func (v *screen) Fit(width, height int) {
	v.Still.Fit(width, height)
	rows := v.tableRows()
	p := &v.place
	p.top = min(p.top, p.row)
	p.top = max(p.top, p.row-rows+1)
	p.top = max(0, min(p.top, max(0, len(v.rows())-rows)))
	fields := v.fieldRows()
	p.fieldTop = min(p.fieldTop, p.field)
	p.fieldTop = max(0, max(p.fieldTop, p.field-fields+1))
	if v.reading {
		v.full.SetWidth(max(1, v.rightWide()-2))
		v.full.SetHeight(max(1, height-3))
		if f, ok := v.chosen(); ok {
			v.full.SetContent(strings.Join(v.valueLines(f.Value, max(1, v.rightWide()-4)), "\n"))
		}
	}
}

// rightWide is how wide the items are.
func (v *screen) rightWide() int {
	if v.sides() {
		return v.Columns - listWide - 2
	}
	return v.Columns
}

// tableRows is how many items are shown at a time.
func (v *screen) tableRows() int {
	n := v.Rows - 4 // the head, the columns' names and a line above them
	if v.level != item {
		n -= max(0, v.itemRows())
	}
	return max(1, n)
}

// Render draws the view.
func (v *screen) Render() view.Drawing {
	t := v.Theme()
	if len(v.Overview.Holding) == 0 {
		return view.Drawing{Lines: ui.Fill([]string{"", "  " + t.Paint(ui.Plain, "What databases, caches and queues hold stands here. No service of this project holds anything."), "",
			"  " + t.Paint(ui.Faint, "One is two lines of neighbour.toml:"), "", "      " + t.Paint(ui.Plain, "[service.ledger]"), "      " + t.Paint(ui.Plain, `kind = "postgres"`)}, v.Rows)}
	}
	d := view.Drawing{}
	out := []string{v.head(), ""}
	room := v.Rows - len(out)
	if room < 1 {
		return view.Drawing{Lines: ui.Fill(ui.Truncate(out, v.Columns), v.Rows)}
	}
	switch {
	case !v.sides() && v.level == collections && v.answer == nil:
		lines, spots := v.listed(v.Columns, room, len(out))
		out, d.Spots = append(out, lines...), spots
	case !v.sides():
		lines, spots := v.right(v.Columns, room, 0, len(out))
		out, d.Spots = append(out, lines...), spots
	default:
		left, spots := v.listed(listWide, room, len(out))
		right, more := v.right(v.rightWide(), room, listWide+2, len(out))
		d.Spots = append(spots, more...)
		for i := range room {
			l, r := "", ""
			if i < len(left) {
				l = left[i]
			}
			if i < len(right) {
				r = right[i]
			}
			out = append(out, display.Pad(display.Truncate(l, listWide), listWide)+"  "+r)
		}
	}
	d.Lines = ui.Fill(ui.Truncate(out, v.Columns), v.Rows)
	return d
}

// head says what is looked at.
func (v *screen) head() string {
	t := v.Theme()
	path := []string{v.place.service}
	if c := v.current(); c != nil {
		if c.Group != "" {
			path = append(path, c.Group)
		}
		path = append(path, c.Title)
	} else if v.place.collection != "" {
		path = append(path, v.place.collection)
	}
	left := "  " + t.Paint(ui.Strong, display.Plain(strings.Join(path, " › ")))
	var parts []string
	switch {
	case v.filter != nil:
		return left + t.Paint(ui.Faint, "   only ") + ui.DrawInput(t, *v.filter, max(10, v.Columns-display.Width(left)-12))
	case v.ask != nil:
		language := "question"
		if h := v.held[v.place.service]; h != nil && h.data.Language != "" {
			language = h.data.Language
		}
		left = "  " + t.Paint(ui.Strong, v.place.service) + t.Paint(ui.Faint, "  "+display.Plain(language)+"  ")
		return left + ui.DrawInput(t, *v.ask, max(10, v.Columns-display.Width(left)-4))
	case !v.since.IsZero() && v.Now.Sub(v.since).Seconds() > 0.4:
		return left + t.Paint(ui.Busy, fmt.Sprintf("   ◐ the server is asked for %s", words.Span(v.Now.Sub(v.since)))) + t.Paint(ui.Faint, "   esc takes it back")
	case v.problem != "":
		return left + "   " + t.Paint(ui.Bad, "✖ "+display.Plain(v.problem))
	case v.answer != nil:
		if v.asked != "" {
			left = "  " + t.Paint(ui.Strong, v.place.service) + t.Paint(ui.Faint, " › ") + t.Paint(ui.Strong, display.Truncate(display.Plain(v.asked), max(20, v.Columns/2)))
		} else {
			left += t.Paint(ui.Faint, " › ") + t.Paint(ui.Strong, "structure")
		}
		if v.answer.Says != "" {
			parts = append(parts, v.answer.Says)
		} else {
			n := words.Count(len(v.answer.Rows), "row")
			if v.answer.More {
				n = "the first " + n
			}
			parts = append(parts, n)
		}
		if v.asked != "" {
			parts = append(parts, words.Millis(v.answer.Took))
		}
	default:
		where := ""
		if len(v.pages) > 0 {
			where = v.pages[0].Where
		}
		if c := v.current(); c != nil {
			if c.Count >= 0 {
				n := words.Thousands(c.Count)
				if c.About {
					n = "about " + n
				}
				if where != "" { // how many these are, nobody has counted
					n = where + ", of " + n
				}
				parts, where = append(parts, n+" "+v.noun(c)), ""
			}
			if c.Bytes >= 0 {
				parts = append(parts, words.Bytes(uint64(c.Bytes)))
			}
			if c.Note != "" {
				parts = append(parts, c.Note)
			}
		}
		if len(v.pages) > 0 {
			if by := v.pages[0].Order; by != "" {
				parts = append(parts, by)
			}
			if where != "" {
				parts = append(parts, where)
			}
			if last := v.pages[len(v.pages)-1]; last.More && last.Next == "" {
				parts = append(parts, fmt.Sprintf("the first %d; / finds others", len(v.rows())))
			}
		}
	}
	text := left + "   " + t.Paint(ui.Faint, display.Plain(strings.Join(parts, " · ")))
	if why := v.fixed(); why != "" && v.answer == nil {
		fixed := t.Paint(ui.Warn, "read only") + t.Paint(ui.Faint, ": "+display.Plain(why))
		if free := v.Columns - display.Width(text) - display.Width(fixed) - 4; free > 0 {
			text += strings.Repeat(" ", free+2) + fixed
		} else {
			text += "  " + t.Paint(ui.Warn, "read only")
		}
	}
	return text
}

func (v *screen) fixed() string {
	if len(v.pages) > 0 {
		return v.pages[0].Fixed
	}
	return ""
}

// noun is what the items of a collection are.
func (v *screen) noun(c *store.Collection) string {
	noun := map[string]string{"table": "row", "view": "row", "keys": "key", "queue": "message", "stream": "message", "inbox": "mail", "tube": "job", "topics": "topic", "documents": "document", "bucket": "object"}[c.Is]
	if noun == "" {
		noun = "item"
	}
	if strings.Contains(c.Is, "table") {
		noun = "row"
	}
	return display.Plural(int(min(c.Count, 2)), noun, noun+"s")
}

// listed is the list of services and what they hold.
func (v *screen) listed(width, rows, y int) (lines []string, spots []view.Spot) {
	t := v.Theme()
	all := v.entries()
	at := 0
	for i, e := range all {
		if e.collection != nil && e.service == v.place.service && e.collection.Name == v.place.collection {
			at = i
		}
	}
	first := max(0, min(at-rows/2, len(all)-rows))
	for i := first; i < min(len(all), first+rows); i++ {
		e := all[i]
		switch {
		case e.problem != "":
			lines = append(lines, "    "+t.Paint(ui.Faint, display.Truncate(display.Plain(e.problem), width-5)))
		case e.collection == nil && e.group == "":
			s := v.Services[e.service].State
			mark := ""
			if s != supervise.Ready {
				mark = " " + t.Paint(view.StateInk(s), signs.State(s))
			}
			lines = append(lines, "  "+t.Paint(ui.Strong, e.service)+mark)
		case e.collection == nil:
			lines = append(lines, "    "+t.Paint(ui.Faint, display.Truncate(display.Plain(e.group), width-5)))
		default:
			c := e.collection
			count := ""
			if c.Count >= 0 {
				count = words.Thousands(c.Count)
				if c.About {
					count = "≈ " + count
				}
			}
			if c.New > 0 {
				count = fmt.Sprintf("● %d new", c.New)
			}
			indent := 4
			if c.Group != "" {
				indent = 6
			}
			mark, in := strings.Repeat(" ", indent), ui.Plain
			if i == at && v.place.collection != "" {
				in = ui.Strong
				if v.level == collections {
					mark, in = strings.Repeat(" ", indent-2)+t.Paint(ui.Accent, "▌ "), ui.Accent
				} else {
					mark = strings.Repeat(" ", indent-2) + t.Paint(ui.Faint, "▌ ")
				}
			}
			name := display.Truncate(display.Plain(c.Title), max(4, width-indent-display.Width(count)-2))
			lines = append(lines, mark+t.Paint(in, display.Pad(name, max(0, width-indent-display.Width(count)-1)))+t.Paint(ui.Faint, count))
			spots = append(spots, view.Spot{X: 0, Y: y + i - first, Width: width, Height: 1, Click: func() tea.Cmd {
				v.level = collections
				return v.choose(e)
			}})
		}
	}
	return lines, spots
}

// right is the items, and one of them.
func (v *screen) right(width, rows, x, y int) ([]string, []view.Spot) {
	t := v.Theme()
	if f, ok := v.chosen(); ok && v.reading {
		out := []string{t.Rule(display.Truncate(display.Plain(f.Column.Name+" · "+f.Column.Type), width-6), width)}
		for _, l := range strings.Split(v.full.View(), "\n") {
			out = append(out, "  "+l)
		}
		return out, nil
	}
	if v.level == item {
		return v.itemLines(width, rows), nil
	}
	out, spots := v.table(width, v.tableRows()+1, x, y)
	if below := v.itemRows(); below > 1 {
		out = append(ui.Fill(out, rows-below), v.itemLines(width, below)...)
	}
	return out, spots
}

// table is the items as a table.
func (v *screen) table(width, rows, x, y int) (out []string, spots []view.Spot) {
	t := v.Theme()
	columns, all := v.columns(), v.rows()
	switch {
	case len(columns) == 0 && v.place.collection == "":
		return nil, nil
	case len(columns) == 0 && v.asking:
		return []string{"  " + t.Paint(ui.Faint, "looking")}, nil
	case len(columns) == 0:
		return nil, nil
	}
	from := min(v.place.top, len(all))
	shown := all[from:min(len(all), from+rows-1)]
	wide := v.widths(columns, all)
	left := min(v.place.left, max(0, len(columns)-1))
	head, used := "  ", 2
	last := left
	for i := left; i < len(columns) && used < width-2; i++ {
		// The last one may be cut, but not to a few characters.
		room := width - 4 - used
		if i > left && wide[i] > room && room < min(wide[i], 10) {
			break
		}
		wide[i] = min(wide[i], max(1, room))
		w := wide[i]
		name := display.Truncate(display.Plain(columns[i].Name), w)
		if columns[i].Is == store.Number {
			name = strings.Repeat(" ", max(0, w-display.Width(name))) + name
		}
		in := ui.Faint
		if columns[i].Key {
			in = ui.Accent
		}
		head += t.Paint(in, display.Pad(name, w)) + "  "
		used += w + 2
		last = i
	}
	if left > 0 {
		head = t.Paint(ui.Accent, "‹ ") + strings.TrimPrefix(head, "  ")
	}
	if last < len(columns)-1 {
		head = display.Pad(display.Truncate(head, width-2), width-2) + t.Paint(ui.Accent, " ›")
	}
	out = append(out, head)
	for i, r := range shown {
		at := from + i
		mark := "  "
		switch until, marked := v.marks[r.Key]; {
		case at == v.place.row && v.level == items:
			mark = t.Paint(ui.Accent, "▌ ")
		case r.Key != "" && marked && v.Now.Before(until):
			mark = t.Paint(ui.Accent, "+ ")
		case at == v.place.row:
			mark = t.Paint(ui.Faint, "▌ ")
		case r.New:
			mark = t.Paint(ui.Accent, "● ")
		}
		line := mark
		for c := left; c <= last && c < len(r.Values); c++ {
			line += v.cell(r.Values[c], columns[c], wide[c], at == v.place.row && v.level == items, r.New) + "  "
		}
		out = append(out, display.Truncate(line, width))
		spots = append(spots, view.Spot{X: x, Y: y + 1 + i, Width: width, Height: 1, Click: func() tea.Cmd {
			v.level = items
			return v.move(at - v.place.row)
		}})
	}
	if len(all) == 0 && !v.asking {
		says := "nothing here"
		switch {
		case v.place.where != "" && len(v.pages) > 0:
			says = "nothing here " + v.pages[0].Where
		case v.answer != nil && v.answer.Says != "":
			says = v.answer.Says
		}
		out = append(out, "", "  "+t.Paint(ui.Faint, display.Plain(says)))
	}
	return out, spots
}

// widths are those of the columns, as the items that are there need them.
func (v *screen) widths(columns []store.Column, all []store.Row) []int {
	out := make([]int, len(columns))
	from := max(0, min(v.place.top, len(all)-1))
	for i, c := range columns {
		out[i] = min(widest, max(2, display.Width(display.Plain(c.Name))))
		if i > v.place.left+40 {
			continue // off the screen
		}
		for _, r := range all[from:min(len(all), from+100)] {
			if i < len(r.Values) {
				out[i] = max(out[i], min(widest, display.Width(display.Plain(r.Values[i].Line(widest)))))
			}
		}
	}
	return out
}

func (v *screen) cell(value store.Value, c store.Column, width int, chosen, fresh bool) string {
	text := display.Plain(value.Line(widest))
	in := ui.Plain
	switch {
	case value.Is == store.Null:
		in = ui.Off
	case chosen || fresh:
		in = ui.Strong
	case value.Is == store.Binary:
		in = ui.Faint
	}
	if display.Width(text) > width {
		text = display.Truncate(text, width)
	}
	if c.Is == store.Number && value.Is != store.Null {
		return strings.Repeat(" ", max(0, width-display.Width(text))) + v.Theme().Paint(in, text)
	}
	return v.Theme().Paint(in, text) + strings.Repeat(" ", max(0, width-display.Width(text)))
}
