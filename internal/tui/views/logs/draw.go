package logs

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// closedLines is how many lines of a long entry are shown while it is closed.
const closedLines = 3

// huesOf returns the colours of services: the same as long as they are declared,
// and all different where there are few.
func huesOf(names []string) map[string]ui.Ink {
	out := make(map[string]ui.Ink, len(names))
	taken := map[int]bool{}
	for _, name := range slices.Sorted(slices.Values(names)) {
		h := fnv.New32a()
		h.Write([]byte(name))
		at := int(h.Sum32() % ui.Hues)
		for taken[at] {
			at = (at + 1) % ui.Hues
		}
		taken[at] = true
		if len(taken) == ui.Hues {
			clear(taken)
		}
		out[name] = ui.FirstHue + ui.Ink(at)
	}
	return out
}

// eventShape returns the sign of what the keeper noted.
func eventShape(event string) (string, ui.Ink) {
	state, known := map[string]supervise.State{
		"start": supervise.Starting, "preparing": supervise.Preparing, "ready": supervise.Ready, "ailing": supervise.Ailing, "failed": supervise.Failed, "held": supervise.Held,
		"finished": supervise.Finished, "stopped": supervise.Stopped,
	}[event]
	switch {
	case known:
		return signs.State(state), view.StateInk(state)
	case event == "ended" || event == "over" || event == "mistake" || event == "deleted":
		return "▲", ui.Warn
	}
	return "◇", ui.Busy
}

// Render draws the view.
func (v *logs) Render() view.Drawing {
	body := v.body
	if len(v.entries) == 0 {
		body = []string{"", "  " + v.Theme().Paint(ui.Faint, v.emptyText())}
	}
	lines := append([]string{v.drawShown()}, ui.Fill(slices.Clone(body), v.rows)...)
	return view.Drawing{Lines: append(lines, v.drawBelow()), Spots: v.spots()}
}

// spots are the rows of the entries: a click selects one.
func (v *logs) spots() []view.Spot {
	var out []view.Spot
	for row := range v.laid {
		out = append(out, view.Spot{Y: row + 1, Width: v.width, Height: 1, Click: func() tea.Cmd {
			v.click(row)
			return nil
		}})
	}
	return out
}

func (v *logs) emptyText() string {
	switch {
	case v.loading:
		return "Reading the logs…"
	case v.filter != "" || v.level != journal.None:
		return "No entry is like that. a shows all again."
	}
	return v.shownServices() + ": nothing printed yet"
}

// drawShown says what is shown: whose entries, and which of them.
func (v *logs) drawShown() string {
	t := v.Theme()
	part := func(active bool, label, value string) string {
		if active {
			return t.Paint(ui.Faint, label) + t.Paint(ui.Accent, value)
		}
		return t.Paint(ui.Faint, label+value)
	}
	level := "every level"
	if v.level != journal.None {
		level = v.level.String() + " and worse"
		if v.level == journal.Error {
			level = "errors"
		}
	}
	parts := []string{part(len(v.services) > 0, "", v.shownServices()), part(v.level != journal.None, "", level)}
	if v.filter != "" {
		parts = append(parts, part(true, "only ", display.Plain(v.filter)))
	}
	if v.search != "" {
		parts = append(parts, part(true, "search ", display.Plain(v.search))+t.Paint(ui.Plain, "  "+v.matchesInWords()))
	}
	if v.raw {
		parts = append(parts, part(true, "", "as written"))
	}
	return display.Truncate("  "+strings.Join(parts, t.Paint(ui.Faint, " · ")), v.width)
}

func (v *logs) matchesInWords() string {
	if !v.matches.known {
		return "counting…"
	}
	text := words.Thousands(v.matches.n) + " " + display.Plural(int(min(v.matches.n, 2)), "entry", "entries")
	if v.position.known && v.matches.n > 0 {
		text = fmt.Sprintf("%s of %s", words.Thousands(v.position.n), words.Thousands(v.matches.n))
	}
	if v.matches.running {
		text += " so far"
	}
	return text
}

// drawBelow returns the line below the entries: whether it follows, what has come
// meanwhile, or what is asked for.
func (v *logs) drawBelow() string {
	t := v.Theme()
	if p := v.prompt; p != nil {
		note := t.Paint(ui.Faint, p.hint)
		if p.err != "" {
			note = t.Paint(ui.Bad, display.Plain(p.err))
		}
		width := max(20, v.width-display.Width(p.label)-display.Width(p.hint)-12)
		return display.Truncate("  "+t.Paint(ui.Accent, p.label+" ")+ui.DrawInput(t, p.input, width)+"   "+note, v.width)
	}
	text, in := " following ", ui.Faint
	switch {
	case v.err != "":
		text, in = " "+display.Plain(v.err)+" ", ui.Bad
	case !v.following && v.mark >= 0:
		n := len(v.selection())
		text = fmt.Sprintf(" paused · %d marked: c copies, s saves ", n)
	case !v.following && v.later.known && v.later.n > 0:
		text, in = fmt.Sprintf(" paused · %s more since ", words.Thousands(v.later.n)), ui.Accent
	case !v.following:
		text = " paused "
	}
	if !v.following && v.cursor < len(v.entries) {
		if at := v.entries[v.cursor].At; !at.IsZero() {
			text += "· at " + at.Local().Format("15:04:05.000, 2 January") + " "
		}
	}
	if v.loading && len(v.entries) > 0 {
		text += "· reading "
	}
	return t.Paint(ui.Line, "──") + t.Paint(in, display.Truncate(text, v.width-4)) + t.Paint(ui.Line, strings.Repeat("─", max(0, v.width-2-display.Width(text))))
}

// layOut makes the rows of the entries that are on the screen.
func (v *logs) layOut() []string {
	v.laid = v.laid[:0]
	if len(v.entries) == 0 {
		return nil
	}
	colours := huesOf(v.Order)
	width := nameWidth(v.Order)
	heights := map[int][]string{}
	rowsOf := func(i int) []string {
		if heights[i] == nil {
			heights[i] = v.entryRows(i, colours, width)
		}
		return heights[i]
	}
	v.cursor = max(0, min(v.cursor, len(v.entries)-1))
	v.top = max(0, min(v.top, len(v.entries)-1))
	if v.following {
		v.cursor = len(v.entries) - 1
		v.top, v.skip = v.cursor, 0
		total := len(rowsOf(v.top))
		for v.top > 0 && total < v.rows {
			v.top--
			total += len(rowsOf(v.top))
		}
		v.skip = max(0, total-v.rows)
	} else {
		v.keepInView(rowsOf)
	}
	var out []string
	for i := v.top; i < len(v.entries) && len(out) < v.rows; i++ {
		rows := rowsOf(i)
		if i == v.top {
			rows = rows[min(v.skip, len(rows)-1):]
		}
		for _, r := range rows {
			if len(out) < v.rows {
				out = append(out, r)
				v.laid = append(v.laid, i)
			}
		}
	}
	return out
}

// keepInView moves the top so that the selected entry is on the screen.
func (v *logs) keepInView(rowsOf func(int) []string) {
	if v.cursor < v.top {
		v.top, v.skip = v.cursor, 0
	}
	if v.cursor-v.rows > v.top {
		v.top, v.skip = v.cursor-v.rows, 0
	}
	total := -v.skip
	for i := v.top; i <= v.cursor; i++ {
		total += len(rowsOf(i))
	}
	for total > v.rows && v.top < v.cursor {
		total -= len(rowsOf(v.top)) - v.skip
		v.top++
		v.skip = 0
	}
	// The end of the time line is not shown with a gap below it.
	for i := v.cursor + 1; i < len(v.entries) && total < v.rows; i++ {
		total += len(rowsOf(i))
	}
	for v.top > 0 && total < v.rows {
		v.top--
		total += len(rowsOf(v.top))
		v.skip = max(0, total-v.rows)
	}
}

// scrollWithin scrolls inside of an entry that is taller than the screen;
// false if there is nothing to scroll.
func (v *logs) scrollWithin(by int) bool {
	if v.following || v.top != v.cursor {
		return false
	}
	shown := 0
	for _, entry := range v.laid {
		if entry == v.cursor {
			shown++
		}
	}
	switch {
	case by > 0 && shown == v.rows && v.rows > 0:
		v.skip += min(by, v.rows)
		return true
	case by < 0 && v.skip > 0:
		v.skip = max(0, v.skip+by)
		return true
	}
	return false
}

// entryRows draws an entry, with the colours of services and how many columns
// their names take.
func (v *logs) entryRows(i int, colours map[string]ui.Ink, names int) []string {
	t := v.Theme()
	e := v.entries[i]
	var out []string
	if i > 0 && !e.At.IsZero() && !v.entries[i-1].At.IsZero() && e.At.Local().YearDay() != v.entries[i-1].At.Local().YearDay() {
		out = append(out, t.Paint(ui.Line, "   ── ")+t.Paint(ui.Faint, e.At.Local().Format("Monday, 2 January 2006")))
	}
	mark := "  "
	selected := !v.following && i == v.cursor
	if v.mark >= 0 && i >= min(v.mark, v.cursor) && i <= max(v.mark, v.cursor) {
		mark = t.Paint(ui.Accent, "┃ ")
	}
	if selected {
		mark = t.Paint(ui.Accent, "▌ ")
	}
	at := "        "
	if !e.At.IsZero() {
		at = e.At.Local().Format("15:04:05")
	}
	head := t.Paint(ui.Faint, at) + "  "
	indent := 12
	if len(v.services) != 1 {
		head += t.Paint(colours[e.Service], display.Pad(display.Truncate(e.Service, names), names)) + "  "
		indent += names + 2
	}
	if e.Event != "" {
		shape, in := eventShape(e.Event)
		text := e.Message
		if e.Service == "" {
			head = t.Paint(ui.Faint, at) + "  "
		}
		return append(out, display.Truncate(mark+head+t.Paint(ui.Line, "── ")+t.Paint(in, shape+" ")+t.Paint(ui.Plain, v.sideways(display.Plain(text))), v.width))
	}
	body := e.Message
	if v.raw {
		body = e.Text
	} else {
		head += t.Paint(view.EntryInk(e.Level), display.Pad(e.Level.String(), 5)) + " "
		indent += 6
	}
	width := max(10, v.width-indent-1)
	lines := strings.Split(body, "\n")
	more := 0
	if !v.opened[e.Place] && len(lines) > closedLines+1 {
		more = len(lines) - closedLines
		lines = lines[:closedLines]
	}
	for n, l := range lines {
		in := ui.Plain
		switch {
		case n > 0:
			in = ui.Faint
		case e.Level == journal.Error:
			in = ui.Strong
		}
		drawn := v.marked(l, in)
		if n == 0 && !v.raw && e.Fields != "" {
			if l != "" {
				drawn += "  "
			}
			drawn += v.marked(e.Fields, ui.Faint)
		}
		for k, row := range v.fit(drawn, width, v.opened[e.Place]) {
			lead := mark + strings.Repeat(" ", indent-2)
			if n == 0 && k == 0 {
				lead = mark + head
			}
			out = append(out, lead+row)
		}
	}
	if more > 0 {
		out = append(out, mark+strings.Repeat(" ", indent-2)+t.Paint(ui.Faint, fmt.Sprintf("… %d more lines (enter)", more)))
	}
	return out
}

func nameWidth(names []string) int {
	width := 4
	for _, n := range names {
		width = max(width, len(n))
	}
	return min(width, 14)
}

// fit makes rows of a line: one that is cut, or several.
func (v *logs) fit(text string, width int, whole bool) []string {
	if v.wrapped || whole {
		return strings.Split(ansi.Hardwrap(text, width, true), "\n")
	}
	return []string{display.Truncate(v.sideways(text), width)}
}

func (v *logs) sideways(text string) string {
	if v.shift == 0 {
		return text
	}
	return ansi.TruncateLeft(text, v.shift, "")
}

// marked returns a line as it may be drawn, with what the search finds in it
// marked.
func (v *logs) marked(text string, in ui.Ink) string {
	t := v.Theme()
	if v.pattern == nil {
		text = display.Clean(text)
		if strings.Contains(text, "\x1b") {
			return text
		}
		return t.Paint(in, text)
	}
	text = display.Plain(text)
	var b strings.Builder
	last := 0
	for _, found := range v.pattern.Find(text) {
		if found[0] == found[1] {
			continue
		}
		b.WriteString(t.Paint(in, text[last:found[0]]) + t.Paint(ui.Match, text[found[0]:found[1]]))
		last = found[1]
	}
	return b.String() + t.Paint(in, text[last:])
}
