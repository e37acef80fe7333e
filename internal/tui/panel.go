package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keep"
)

// panel is a box over the view that takes the keys while it is there.
type panel interface {
	draw(m *model) []string
	key(m *model, k tea.KeyPressMsg) tea.Cmd
	bindings() []binding
}

// frame puts lines into a box with a title.
func (m *model) frame(title string, lines []string) []string {
	t := m.theme
	width := Width(title) + 2
	for _, l := range lines {
		width = max(width, Width(l))
	}
	width = min(width, m.width-8)
	out := []string{t.paint(accent, "╭ "+title+" "+strings.Repeat("─", max(0, width-Width(title)))+"╮")}
	for _, l := range lines {
		out = append(out, t.paint(accent, "│ ")+pad(l, width)+t.paint(accent, " │"))
	}
	return append(out, t.paint(accent, "╰"+strings.Repeat("─", width+2)+"╯"))
}

// question asks before something is done.
type question struct {
	title, text, yes string
	list             []string // what the text speaks of, one in a line
	then             func(*model) tea.Cmd
}

func (q *question) draw(m *model) []string {
	lines := []string{""}
	for _, l := range wrap(q.text, min(60, m.width-12)) {
		lines = append(lines, m.theme.paint(plain, l))
	}
	if len(q.list) > 0 {
		lines = append(lines, "")
	}
	shown := q.list
	if room := max(3, m.height-14); len(shown) > room {
		shown = shown[:room-1]
	}
	for _, l := range shown {
		lines = append(lines, m.theme.paint(strong, "  "+Truncate(Plain(l), m.width-14)))
	}
	if more := len(q.list) - len(shown); more > 0 {
		lines = append(lines, m.theme.paint(faint, fmt.Sprintf("  and %d more, all in neighbour.toml", more)))
	}
	lines = append(lines, "", m.theme.paint(accent, "enter")+" "+m.theme.paint(plain, q.yes)+"   "+m.theme.paint(accent, "esc")+" "+m.theme.paint(plain, "leave as it is"))
	return m.frame(q.title, lines)
}

func (q *question) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		m.panel = nil
		return q.then(m)
	case "esc", "q":
		m.panel = nil
	}
	return nil
}

func (q *question) bindings() []binding {
	return []binding{key("enter", q.yes), key("esc", "leave as it is")}
}

// choice is a row of a menu.
type choice struct {
	text string
	then func(*model) tea.Cmd
}

// menu is a panel of rows, one of which is taken with enter or its number.
type menu struct {
	at int
}

func (mn *menu) rows(m *model, choices []choice) []string {
	var out []string
	for i, c := range choices {
		mark, in := "  ", plain
		if i == mn.at {
			mark, in = "▌ ", accent
		}
		out = append(out, m.theme.paint(accent, mark)+m.theme.paint(faint, fmt.Sprintf("%d  ", i+1))+m.theme.paint(in, c.text))
	}
	return out
}

func (mn *menu) press(m *model, choices []choice, pressed string) tea.Cmd {
	switch pressed {
	case "up":
		mn.at = max(0, mn.at-1)
	case "down":
		mn.at = min(len(choices)-1, mn.at+1)
	case "esc", "q":
		m.panel = nil
	case "enter":
		m.panel = nil
		return choices[mn.at].then(m)
	default:
		if len(pressed) == 1 && pressed[0] >= '1' && int(pressed[0]-'1') < len(choices) {
			m.panel = nil
			return choices[pressed[0]-'1'].then(m)
		}
	}
	return nil
}

func (mn *menu) bindings() []binding {
	return []binding{key("↑ ↓", "choose"), key("enter", "take"), key("esc", "back")}
}

// scope asks how many services an action is about.
type scope struct {
	menu
	title   string
	choices []choice
}

// askScope offers what an action can be about beside a service.
func (m *model) askScope(a *action, service string) tea.Cmd {
	return m.askAlong(service, func(m *model, along keep.Along) tea.Cmd {
		m.panel = newScope(m, a, along)
		return nil
	})
}

func newScope(m *model, a *action, s keep.Along) panel {
	all := append([]string(nil), m.order...)
	sc := &scope{title: strings.ToUpper(a.verb[:1]) + a.verb[1:]}
	add := func(text string, withNeeds bool, names ...string) {
		sc.choices = append(sc.choices, choice{text, func(m *model) tea.Cmd { return m.do(a, withNeeds, names...) }})
	}
	needs, needed := s.Needs, s.NeededBy
	switch {
	case a.withDependents && len(needed) > 0:
		add(s.Service+" and what needs it: "+strings.Join(needed, ", "), false, s.Service)
	case a == starting && len(needs) > 0:
		add(s.Service+" and what it needs: "+strings.Join(needs, ", "), false, s.Service)
	default:
		add(s.Service, false, s.Service)
	}
	if a == restarting && len(needs) > 0 {
		add(s.Service+" and what it needs: "+strings.Join(needs, ", "), true, s.Service)
	}
	if a == stopping && len(needs) > 0 {
		// What it needs takes along whatever else needs that.
		add(s.Service+", what it needs, and all that needs those: "+strings.Join(needs, ", "), false, append(needs, s.Service)...)
	}
	add(fmt.Sprintf("all %d services", len(all)), false, all...)
	return sc
}

func (sc *scope) draw(m *model) []string { return m.frame(sc.title, sc.rows(m, sc.choices)) }

func (sc *scope) key(m *model, k tea.KeyPressMsg) tea.Cmd { return sc.press(m, sc.choices, k.String()) }

// copier asks which fact to copy.
type copier struct {
	menu
	service string
}

func (c *copier) choices(m *model) []choice {
	s := m.services[c.service]
	var out []choice
	for _, f := range s.Facts {
		out = append(out, choice{fmt.Sprintf("%-9s %s", f.Name, Plain(m.masked(f))), func(m *model) tea.Cmd { return m.copyFact(s, f) }})
	}
	return out
}

func (c *copier) draw(m *model) []string {
	return m.frame("Copy from "+c.service, c.rows(m, c.choices(m)))
}

func (c *copier) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	return c.press(m, c.choices(m), k.String())
}

// help lists the keys of a view, and the signs.
type help struct {
	keys []binding
	page int
}

var helpKeys = []binding{
	key("← ↑ ↓ →", "select a service"), key("tab", "the next one in the order of the start"),
	key("s", "start it with what it needs"), key("r", "restart it"), key("t", "stop it with what needs it"),
	key("S R T", "the same, for more services"), key("enter", "its log"), key("2", "the logs of all"),
	key("c", "copy its address or a credential"), key("o", "open its page in the browser"), key("v", "show or hide passwords"),
	key("e", "change its version or port"), key("n", "add a service"), key("x", "remove it from the declaration"),
	key("a", "apply a changed neighbour.toml"),
	key("3", "wiring: variables, ports, env files"), key("7", "checks, and what can be done"),
	key("/", "show only some, by name, kind or state"), key("q", "leave; services go on"), key("Q", "stop all and leave"),
	key("mouse", "selects; shift and drag marks text"),
}

var stateHelp = []struct {
	state keep.State
	text  string
}{
	{keep.Stopped, "not started"}, {keep.Waiting, "for what it needs"}, {keep.Preparing, "once before a start"},
	{keep.Starting, "runs, not ready yet"}, {keep.Ready, "its check is answered"}, {keep.Ailing, "was ready, check fails"},
	{keep.Stopping, "asked to end"}, {keep.Failed, "gave up; says why"}, {keep.Finished, "ran once, ended well"},
}

func (h *help) draw(m *model) []string {
	t := m.theme
	var keys, signs []string
	column := 8
	for _, b := range h.keys {
		column = max(column, Width(b.key)+2)
	}
	for _, b := range h.keys {
		keys = append(keys, t.paint(accent, pad(b.key, column))+t.paint(plain, b.does))
	}
	for _, s := range stateHelp {
		signs = append(signs, t.paint(stateInk(s.state), fmt.Sprintf("%s %-10s", Shape(s.state), s.state))+t.paint(plain, s.text))
	}
	signs = append(signs, "", t.paint(stateGood, "▂▃▄▅▇")+t.paint(plain, " how long a check took"), t.paint(stateBad, "×")+t.paint(plain, "     a check that failed"))
	// What doesn't fit is on further pages, keys and signs each going on; on a
	// narrow screen the signs come after the keys.
	room := helpRoom(m)
	if m.width < helpWide {
		keys, signs = append(append(keys, ""), signs...), nil
	}
	if pages := h.pages(m); pages > 1 {
		h.page = min(h.page, pages-1)
		keys, signs = part(keys, h.page, room), part(signs, h.page, room)
	}
	lines := make([]string, max(len(keys), len(signs)))
	for i := range lines {
		k, s := "", ""
		if i < len(keys) {
			k = keys[i]
		}
		if i < len(signs) {
			s = signs[i]
		}
		if signs == nil {
			lines[i] = pad(k, min(60, m.width-12))
			continue
		}
		lines[i] = pad(k, min(47, m.width-12-34)) + "  " + s
	}
	title := "Keys and signs"
	if pages := h.pages(m); pages > 1 {
		title += fmt.Sprintf(", page %d of %d", h.page+1, pages)
	}
	return m.frame(title, lines)
}

// pages returns how many pages the help has on this screen.
func (h *help) pages(m *model) int {
	rows := max(len(h.keys), len(stateHelp)+3)
	if m.width < helpWide {
		rows = len(h.keys) + len(stateHelp) + 4
	}
	return (rows + helpRoom(m) - 1) / helpRoom(m)
}

// helpWide is from which width on keys and signs are beside each other.
const helpWide = 96

// helpRoom returns how many rows of help the screen has room for.
func helpRoom(m *model) int { return max(4, m.height-headerRows-keyRows-3) }

// part returns a page of rows.
func part(rows []string, page, size int) []string {
	from := min(page*size, len(rows))
	return rows[from:min(from+size, len(rows))]
}

func (h *help) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "right", "down", "pgdown", "space", "tab":
		if h.page+1 < h.pages(m) {
			h.page++
			return nil
		}
	case "left", "up", "pgup", "shift+tab":
		if h.page > 0 {
			h.page--
			return nil
		}
	}
	m.panel = nil
	return nil
}

func (*help) bindings() []binding {
	return []binding{key("← →", "another page"), key("any other key", "back")}
}
