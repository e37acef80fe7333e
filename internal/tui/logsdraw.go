package tui

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/core/journal"
	"neighbour/internal/core/keep"
)

// closedLines is how many lines of a long entry are shown while it is closed.
const closedLines = 3

// huesOf returns the colours of services: the same as long as they are declared,
// and all different where there are few.
func huesOf(names []string) map[string]ink {
	out := make(map[string]ink, len(names))
	taken := map[int]bool{}
	for _, name := range slices.Sorted(slices.Values(names)) {
		h := fnv.New32a()
		h.Write([]byte(name))
		at := int(h.Sum32() % hues)
		for taken[at] {
			at = (at + 1) % hues
		}
		taken[at] = true
		if len(taken) == hues {
			clear(taken)
		}
		out[name] = firstHue + ink(at)
	}
	return out
}

func levelInkOf(l journal.Level) ink {
	switch l {
	case journal.Error:
		return stateBad
	case journal.Warn:
		return stateWarn
	}
	return faint
}

// eventShape returns the sign of what the keeper noted.
func eventShape(event string) (string, ink) {
	state, known := map[string]keep.State{
		"start": keep.Starting, "preparing": keep.Preparing, "ready": keep.Ready, "ailing": keep.Ailing, "failed": keep.Failed,
		"finished": keep.Finished, "stopped": keep.Stopped,
	}[event]
	switch {
	case known:
		return Shape(state), stateInk(state)
	case event == "ended" || event == "over" || event == "mistake" || event == "deleted":
		return "▲", stateWarn
	}
	return "◇", stateBusy
}

func (v *logsView) draw(m *model, rows int) []string {
	v.rows = max(1, rows-2)
	out := []string{v.drawShown(m)}
	body := v.layOut(m)
	if len(v.entries) == 0 {
		body = append(body, "", "  "+m.theme.paint(faint, v.emptyText()))
	}
	for len(body) < v.rows {
		body = append(body, "")
	}
	out = append(out, body[:v.rows]...)
	return append(out, v.drawBelow(m))
}

func (v *logsView) emptyText() string {
	switch {
	case v.loading:
		return "Reading the logs…"
	case v.filter != "" || v.level != journal.None:
		return "No entry is like that. a shows all again."
	}
	return v.shownServices() + ": nothing printed yet"
}

// drawShown says what is shown: whose entries, and which of them.
func (v *logsView) drawShown(m *model) string {
	t := m.theme
	part := func(active bool, label, value string) string {
		if active {
			return t.paint(faint, label) + t.paint(accent, value)
		}
		return t.paint(faint, label+value)
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
		parts = append(parts, part(true, "only ", Plain(v.filter)))
	}
	if v.search != "" {
		parts = append(parts, part(true, "search ", Plain(v.search))+t.paint(plain, "  "+v.matchesInWords()))
	}
	if v.raw {
		parts = append(parts, part(true, "", "as written"))
	}
	return Truncate("  "+strings.Join(parts, t.paint(faint, " · ")), m.width)
}

func (v *logsView) matchesInWords() string {
	if !v.matches.known {
		return "counting…"
	}
	text := grouped(v.matches.n) + " " + plural(int(min(v.matches.n, 2)), "entry", "entries")
	if v.position.known && v.matches.n > 0 {
		text = fmt.Sprintf("%s of %s", grouped(v.position.n), grouped(v.matches.n))
	}
	if v.matches.running {
		text += " so far"
	}
	return text
}

// grouped returns a number with its thousands apart.
func grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// drawBelow returns the line below the entries: whether it follows, what has come
// meanwhile, or what is asked for.
func (v *logsView) drawBelow(m *model) string {
	t := m.theme
	if p := v.prompt; p != nil {
		note := t.paint(faint, p.hint)
		if p.err != "" {
			note = t.paint(stateBad, Plain(p.err))
		}
		width := max(20, m.width-Width(p.label)-Width(p.hint)-12)
		return Truncate("  "+t.paint(accent, p.label+" ")+drawInput(t, p.input, width)+"   "+note, m.width)
	}
	text, in := " following ", faint
	switch {
	case v.err != "":
		text, in = " "+Plain(v.err)+" ", stateBad
	case !v.following && v.mark >= 0:
		n := len(v.selection())
		text = fmt.Sprintf(" paused · %d marked: c copies, s saves ", n)
	case !v.following && v.later.known && v.later.n > 0:
		text, in = fmt.Sprintf(" paused · %s more since ", grouped(v.later.n)), accent
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
	return t.paint(line, "──") + t.paint(in, Truncate(text, m.width-4)) + t.paint(line, strings.Repeat("─", max(0, m.width-2-Width(text))))
}

// layOut makes the rows of the entries that are on the screen.
func (v *logsView) layOut(m *model) []string {
	v.laid = v.laid[:0]
	if len(v.entries) == 0 {
		return nil
	}
	colours := huesOf(m.order)
	width := nameWidth(m.order)
	heights := map[int][]string{}
	rowsOf := func(i int) []string {
		if heights[i] == nil {
			heights[i] = v.entryRows(m, i, colours, width)
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
func (v *logsView) keepInView(rowsOf func(int) []string) {
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
func (v *logsView) scrollWithin(by int) bool {
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
func (v *logsView) entryRows(m *model, i int, colours map[string]ink, names int) []string {
	t := m.theme
	e := v.entries[i]
	var out []string
	if i > 0 && !e.At.IsZero() && !v.entries[i-1].At.IsZero() && e.At.Local().YearDay() != v.entries[i-1].At.Local().YearDay() {
		out = append(out, t.paint(line, "   ── ")+t.paint(faint, e.At.Local().Format("Monday, 2 January 2006")))
	}
	mark := "  "
	selected := !v.following && i == v.cursor
	if v.mark >= 0 && i >= min(v.mark, v.cursor) && i <= max(v.mark, v.cursor) {
		mark = t.paint(accent, "┃ ")
	}
	if selected {
		mark = t.paint(accent, "▌ ")
	}
	at := "        "
	if !e.At.IsZero() {
		at = e.At.Local().Format("15:04:05")
	}
	head := t.paint(faint, at) + "  "
	indent := 12
	if len(v.services) != 1 {
		head += t.paint(colours[e.Service], pad(Truncate(e.Service, names), names)) + "  "
		indent += names + 2
	}
	if e.Event != "" {
		shape, in := eventShape(e.Event)
		text := e.Message
		if e.Service == "" {
			head = t.paint(faint, at) + "  "
		}
		return append(out, Truncate(mark+head+t.paint(line, "── ")+t.paint(in, shape+" ")+t.paint(plain, v.sideways(Plain(text))), m.width))
	}
	body := e.Message
	if v.raw {
		body = e.Text
	} else {
		head += t.paint(levelInkOf(e.Level), pad(e.Level.String(), 5)) + " "
		indent += 6
	}
	width := max(10, m.width-indent-1)
	lines := strings.Split(body, "\n")
	more := 0
	if !v.opened[e.Place] && len(lines) > closedLines+1 {
		more = len(lines) - closedLines
		lines = lines[:closedLines]
	}
	for n, l := range lines {
		in := plain
		switch {
		case n > 0:
			in = faint
		case e.Level == journal.Error:
			in = strong
		}
		drawn := v.marked(m, l, in)
		if n == 0 && !v.raw && e.Fields != "" {
			if l != "" {
				drawn += "  "
			}
			drawn += v.marked(m, e.Fields, faint)
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
		out = append(out, mark+strings.Repeat(" ", indent-2)+t.paint(faint, fmt.Sprintf("… %d more lines (enter)", more)))
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
func (v *logsView) fit(text string, width int, whole bool) []string {
	if v.wrapped || whole {
		return strings.Split(ansi.Hardwrap(text, width, true), "\n")
	}
	return []string{Truncate(v.sideways(text), width)}
}

func (v *logsView) sideways(text string) string {
	if v.shift == 0 {
		return text
	}
	return ansi.TruncateLeft(text, v.shift, "")
}

// marked returns a line as it may be drawn, with what the search finds in it
// marked.
func (v *logsView) marked(m *model, text string, in ink) string {
	t := m.theme
	if v.pattern == nil {
		text = Clean(text)
		if strings.Contains(text, "\x1b") {
			return text
		}
		return t.paint(in, text)
	}
	text = Plain(text)
	var b strings.Builder
	last := 0
	for _, found := range v.pattern.Find(text) {
		if found[0] == found[1] {
			continue
		}
		b.WriteString(t.paint(in, text[last:found[0]]) + t.paint(match, text[found[0]:found[1]]))
		last = found[1]
	}
	return b.String() + t.paint(in, text[last:])
}
