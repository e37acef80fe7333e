package data

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/store"
	"neighbour/internal/core/supervise"
	"neighbour/internal/core/words"
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
		if p.field < len(v.whole.Fields) {
			v.full.SetContent(strings.Join(v.valueLines(v.whole.Fields[p.field].Value, max(1, v.rightWide()-4)), "\n"))
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

// itemRows is how many rows the item below the list has.
func (v *screen) itemRows() int {
	switch {
	case v.answer != nil || len(v.pages) == 0 && !v.place.alone:
		return 0
	case v.level == item:
		return max(0, v.Rows-2)
	}
	return min(max(4, v.Rows/3), v.Rows-8)
}

// tableRows is how many items are shown at a time.
func (v *screen) tableRows() int {
	n := v.Rows - 4 // the head, the columns' names and a line above them
	if v.level != item {
		n -= max(0, v.itemRows())
	}
	return max(1, n)
}

// fieldRows is how many fields of the item are shown at a time.
func (v *screen) fieldRows() int { return max(1, v.itemRows()-2-len(v.whole.Notes)) }

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
		left = "  " + t.Paint(ui.Strong, v.place.service) + t.Paint(ui.Faint, "  "+language+"  ")
		return left + ui.DrawInput(t, *v.ask, max(10, v.Columns-display.Width(left)-4))
	case !v.since.IsZero() && v.Now.Sub(v.since).Seconds() > 0.4:
		return left + t.Paint(ui.Busy, fmt.Sprintf("   ◐ the server is asked for %s", words.Span(v.Now.Sub(v.since)))) + t.Paint(ui.Faint, "   esc takes it back")
	case v.problem != "":
		return left + "   " + t.Paint(ui.Bad, "✖ "+display.Plain(v.problem))
	case v.answer != nil:
		left = "  " + t.Paint(ui.Strong, v.place.service) + t.Paint(ui.Faint, " › ") + t.Paint(ui.Strong, display.Truncate(display.Plain(v.asked), max(20, v.Columns/2)))
		if v.answer.Says != "" {
			parts = append(parts, v.answer.Says)
		} else {
			n := words.Count(len(v.answer.Rows), "row")
			if v.answer.More {
				n = "the first " + n
			}
			parts = append(parts, n)
		}
		parts = append(parts, words.Millis(v.answer.Took))
	default:
		if c := v.current(); c != nil {
			if c.Count >= 0 {
				n := words.Thousands(c.Count)
				if c.About {
					n = "about " + n
				}
				parts = append(parts, n+" "+v.noun(c))
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
			if w := v.pages[0].Where; w != "" {
				parts = append(parts, w)
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
	noun := map[string]string{"table": "row", "view": "row", "keys": "key", "queue": "message", "stream": "message", "inbox": "mail", "tube": "job", "topics": "topic"}[c.Is]
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
	if v.reading && v.place.field < len(v.whole.Fields) {
		f := v.whole.Fields[v.place.field]
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
		case v.place.where != "":
			says = "nothing here " + v.place.where
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

// itemLines are the fields of an item.
func (v *screen) itemLines(width, rows int) []string {
	t := v.Theme()
	title := v.place.collection
	if c := v.current(); c != nil {
		title = c.Title
	}
	switch {
	case v.whole.Says != "":
		title += " · " + v.whole.Says
	case v.whole.Key != "":
		title += " · " + keyInWords(v.whole.Key)
	}
	out := []string{t.Rule(display.Truncate(display.Plain(title), width-6), width)}
	if v.whole.Key == "" || v.whole.Key != v.place.key {
		if why := v.fixed(); why != "" && v.whole.Key == "" && len(v.rows()) > 0 {
			out = append(out, "  "+t.Paint(ui.Faint, display.Plain(why)))
		}
		return ui.Fill(out, rows)
	}
	name := 6
	for _, f := range v.whole.Fields {
		name = max(name, min(24, display.Width(display.Plain(f.Column.Name))))
	}
	top := 0
	if v.level == item {
		top = v.place.fieldTop
	}
	// Room that the fields leave is for the first that is several lines, and the
	// chosen one.
	opened := false
	spare := max(0, rows-1-len(v.whole.Notes)-(len(v.whole.Fields)-top))
	for i := top; i < len(v.whole.Fields) && len(out) < rows-len(v.whole.Notes); i++ {
		f := v.whole.Fields[i]
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
	for _, n := range v.whole.Notes {
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

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	switch {
	case v.filter != nil:
		return []view.Binding{
			view.Bind("", "words, or a condition in the server's language", nil).Shown("type"),
			view.Act("enter", "find", v.takeFilter),
			view.Act("esc", "leave it", func() tea.Cmd { v.filter = nil; return nil }),
		}
	case v.ask != nil:
		return []view.Binding{
			view.Bind("", "a statement", nil).Shown("type"),
			view.Act("enter", "ask", v.takeQuestion),
			view.Bind("up down", "earlier ones", func(pressed string) tea.Cmd {
				v.recall(map[string]int{"up": 1, "down": -1}[pressed])
				return nil
			}).Shown("↑ ↓").If(len(v.history) > 0),
			view.Act("tab", "complete", func() tea.Cmd { v.complete(); return nil }),
			view.Act("esc", "leave it", func() tea.Cmd { v.ask = nil; return nil }),
		}
	}
	rows := v.rows()
	some := len(rows) > 0 && v.answer == nil
	onItem := some && v.place.key != "" && v.level != collections
	h := v.held[v.place.service]
	asks := h != nil && h.data.Language != ""
	can := func(action string) bool {
		c := v.current()
		return v.changes() && c != nil && slices.Contains(c.Can, action)
	}
	follows := v.level == item && v.place.field < len(v.whole.Fields) && v.whole.Fields[v.place.field].To != nil && v.whole.Fields[v.place.field].To.Key != ""
	enter := map[bool]string{true: "follow", false: "open"}[follows]
	if v.level == item && !follows {
		enter = "whole value"
	}
	inner := v.level > collections || v.answer != nil || v.reading || !v.since.IsZero()
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1}[pressed])
		}).Shown("↑ ↓"),
		view.Act("enter", enter, v.deeper).If(!v.reading && (v.level < item || len(v.whole.Fields) > 0)).Helps("go deeper: to the items, to one whole, to what a value leads to"),
		view.Act("esc", "back", v.back).If(inner || v.place.where != ""),
		view.Act("tab", "other half", func() tea.Cmd {
			v.level = map[bool]int{true: items, false: collections}[v.level == collections]
			v.reading = false
			return nil
		}).Spare(4).Hushed().Helps("between the collections and their items"),
		view.Bind("left right", "columns", func(pressed string) tea.Cmd {
			v.place.left = min(max(0, v.place.left+map[string]int{"left": -1, "right": 1}[pressed]), max(0, len(v.columns())-1))
			return nil
		}).Shown("← →").If(v.level == items && len(v.columns()) > 1).Spare(3).Helps("other columns"),
		view.Bind("pgup pgdown", "page", func(pressed string) tea.Cmd {
			n := v.tableRows()
			if v.level == item {
				n = v.fieldRows()
			}
			return v.move(map[string]int{"pgup": -n, "pgdown": n}[pressed])
		}).Hushed().Helps("a page up or down"),
		view.Bind("home end", "first, last", func(pressed string) tea.Cmd { return v.jump(pressed == "end") }).Hushed().Helps("the beginning and the end of the collection"),
		view.Act("/", "only", v.typeFilter).If(v.place.collection != "" && v.answer == nil && v.level != item).Helps("only some: words that they contain, or a condition in the server's language"),
		view.Act(":", "ask", v.typeQuestion).If(asks).Helps("ask in the server's own language"),
		view.Act("e", "change", func() tea.Cmd { return v.begin(store.Change, v.target(false)) }).If(can(store.Change) && v.level == item && len(v.whole.Fields) > 0 && v.whole.Fixed == "").Helps("change the chosen value"),
		view.Act("n", "new", func() tea.Cmd { return v.begin(store.Insert, v.target(true)) }).If(can(store.Insert)).Spare(1).Helps("add an item"),
		view.Act("x", "delete", func() tea.Cmd { return v.begin(store.Delete, v.target(false)) }).If(can(store.Delete) && onItem && v.whole.Fixed == "").Spare(1).Helps("delete the item"),
		view.Act("X", "clear", func() tea.Cmd { return v.begin(store.Clear, v.target(true)) }).If(can(store.Clear) && v.level != item).Spare(2).Helps("delete all items of the collection"),
		view.Act("a", "more", func() tea.Cmd { return v.others(v.target(v.level == collections)) }).If(v.changes()).Spare(2).Helps("what else can be done"),
		view.Act("o", "out", v.out).If(v.place.collection != "" && v.level != item && len(rows) > 0).Spare(3).Helps("write what is shown to a file or the clipboard"),
		view.Act("v", "whole value", func() tea.Cmd { v.show(); return nil }).If(v.level == item && !v.reading && follows).Spare(2).Helps("the chosen value, whole"),
		view.Act("w", map[bool]string{true: "hold still", false: "watch"}[v.watching], func() tea.Cmd {
			v.watching, v.rhythm = !v.watching, quickest
			return nil
		}).If(v.answer == nil && some).Spare(3).Helps("whether what changes is shown as it does"),
		view.Act("c", "copy", v.copy).If(v.place.collection != "").Spare(3).Helps("copy the value, or the address of what is shown"),
	}
}
