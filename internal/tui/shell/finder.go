package shell

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// finder offers everything that can be done now, found by a part of its words.
type finder struct {
	m     *Model
	input textinput.Model
	all   []view.Command
	at    int
}

// finderWidth is how wide the finder's rows are at most.
const finderWidth = 76

// find opens the finder.
func (m *Model) find() tea.Cmd {
	f := &finder{m: m, input: ui.TextField("", "", "", finderWidth-6).Input}
	f.input.Focus()
	for _, b := range m.view.Bindings() {
		if keys := b.Keys(); b.Do != nil && b.Enabled() && !b.Quiet && len(keys) == 1 {
			f.all = append(f.all, view.Command{Says: b.Explains(), Key: b.Label(), Do: func() tea.Cmd { return b.Do(keys[0]) }})
		}
	}
	e := m.env(0)
	for _, s := range m.opts.Views {
		if s.ID != m.spec.ID {
			f.all = append(f.all, view.Command{Says: "show " + s.Title, Key: s.Key, Do: func() tea.Cmd { return m.Turn(s.ID, nil) }})
		}
		if s.Commands == nil {
			continue
		}
		for _, c := range s.Commands(e) {
			// A key that does something else here, or nothing, is none.
			if !isViewKey(c.Key) && (s.ID != m.spec.ID || c.On != "" && c.On != e.Selected) {
				c.Key = ""
			}
			f.all = append(f.all, c)
		}
	}
	f.all = append(f.all,
		view.Command{Says: "help: keys and signs", Key: "?", Do: m.help},
		view.Command{Says: "leave; services go on", Key: "q", Do: m.Leave},
		view.Command{Says: "stop all and leave", Key: "Q", Do: m.leaveStopped},
	)
	m.panel = f
	return nil
}

// isViewKey reports whether a key leads to a view from anywhere, as "8 S" does.
func isViewKey(key string) bool { return key != "" && key[0] >= '0' && key[0] <= '9' }

// otherWords are words that people use for what is called otherwise here, by a word of ours.
var otherWords = map[string]string{
	"restart": "reload again reboot", "start": "run launch up", "stop": "end kill shut down", "logs": "output print tail console", "wiring": "environment variables env ports settings",
	"checks": "problems errors what is wrong missing install", "usage": "memory processor cpu load", "data": "database tables rows sql inbox mail messages keys files", "traffic": "requests http network",
	"snapshots": "backup restore saved", "errands": "commands tasks jobs scripts", "starts": "startup slow time", "projects": "others switch", "open": "browser page address url", "copy": "password clipboard address",
	"map": "overview services", "apply": "changes reload file", "leave": "quit exit close",
}

// sought returns the text that a command is found by.
func sought(c view.Command) string {
	text := strings.ToLower(c.Says)
	also := c.Also
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ':' || r == ';' }) {
		also += " " + otherWords[w]
	}
	return text + " " + strings.ToLower(also)
}

// found returns what the words typed are a part of: what begins with them
// first, then what has words that do.
func (f *finder) found() []view.Command {
	typed := strings.Fields(strings.ToLower(f.input.Value()))
	var ranks [4][]view.Command
	for _, c := range f.all {
		if r := rank(strings.ToLower(c.Says), typed); r >= 0 {
			ranks[r] = append(ranks[r], c)
		} else if rank(sought(c), typed) >= 0 { // by other words
			ranks[3] = append(ranks[3], c)
		}
	}
	return slices.Concat(ranks[:]...)
}

// rank says how well words fit a text: 0 if it begins with the first, 1 if
// each begins a word of it, 2 if each is in it, -1 if one isn't.
func rank(text string, words []string) int {
	r := 0
	for n, w := range words {
		switch {
		case !strings.Contains(text, w):
			return -1
		case !strings.Contains(" "+text, " "+w):
			r = 2
		case n == 0 && !strings.HasPrefix(text, w):
			r = max(r, 1)
		}
	}
	return r
}

// Render draws the finder.
func (f *finder) Render() []string {
	t := f.m.Theme()
	width := min(finderWidth, f.m.state.Width-12)
	found := f.found()
	room := max(3, min(16, f.m.rows()-6))
	at := min(f.at, max(0, len(found)-1))
	from := max(0, min(at-room/2, len(found)-room))
	lines := []string{t.Paint(ui.Accent, "▸ ") + ui.DrawInput(t, f.input, width-4), ""}
	for i := from; i < min(len(found), from+room); i++ {
		mark, in := "  ", ui.Plain
		if i == at {
			mark, in = t.Paint(ui.Accent, "▌ "), ui.Strong
		}
		says := display.Pad(display.Plain(found[i].Says), width-14)
		lines = append(lines, mark+t.Paint(in, says)+"  "+t.Paint(ui.Accent, display.Truncate(found[i].Key, 10)))
	}
	if len(found) == 0 {
		lines = append(lines, t.Paint(ui.Faint, "  nothing is called that; fewer letters find more"))
	}
	lines = ui.Fill(lines, room+2)
	for i, l := range lines {
		lines[i] = display.Pad(l, width)
	}
	lines = append(lines, "", t.Paint(ui.Faint, fmt.Sprintf("  %d of %d; at the right, the key that does the same here", len(found), len(f.all))))
	return t.Frame("What to do", lines, f.m.state.Width)
}

// Bindings are the keys of the finder.
func (f *finder) Bindings() []view.Binding {
	return []view.Binding{
		view.Bind("up down pgup pgdown", "choose", func(pressed string) tea.Cmd {
			by := map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed]
			f.at = max(0, min(f.at+by, len(f.found())-1))
			return nil
		}).Shown("↑ ↓"),
		view.Act("enter", "do it", func() tea.Cmd {
			found := f.found()
			if len(found) == 0 {
				return nil
			}
			f.m.panel = nil
			return found[min(f.at, len(found)-1)].Do()
		}),
		view.Act("esc ctrl+p", "back", func() tea.Cmd {
			f.m.panel = nil
			return nil
		}).Shown("esc"),
	}
}

// Type takes a letter.
func (f *finder) Type(k tea.KeyPressMsg) tea.Cmd {
	f.input, _ = f.input.Update(k)
	f.at = 0
	return nil
}

// Paste takes a text.
func (f *finder) Paste(msg tea.PasteMsg) {
	f.input, _ = f.input.Update(msg)
	f.at = 0
}
