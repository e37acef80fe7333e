package tui

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/journal"
)

// prompt asks for a text on the line below the entries.
type prompt struct {
	label, hint string
	input       textinput.Model
	err         string
	take        func(v *logsView, m *model, text string) (tea.Cmd, error)
}

func newPrompt(label, value, hint string, take func(*logsView, *model, string) (tea.Cmd, error)) *prompt {
	f := textField("", value, "", 60)
	f.input.Focus()
	return &prompt{label: label, hint: hint, input: f.input, take: take}
}

// typed takes a key while the view asks for a text; false if it doesn't.
func (v *logsView) typed(m *model, k tea.KeyPressMsg) (tea.Cmd, bool) {
	if v.prompt == nil {
		return nil, false
	}
	switch k.String() {
	case "esc":
		v.prompt = nil
	case "enter":
		p := v.prompt
		cmd, err := p.take(v, m, strings.TrimSpace(p.input.Value()))
		if err != nil {
			p.err = err.Error()
			return nil, true
		}
		v.prompt = nil
		return cmd, true
	default:
		v.prompt.err = ""
		v.prompt.input, _ = v.prompt.input.Update(k)
	}
	return nil, true
}

func (v *logsView) bindings(m *model) []binding {
	if v.prompt != nil {
		return []binding{key("enter", v.prompt.label), key("esc", "leave it")}
	}
	out := []binding{spare(-1, "esc", "back")}
	if v.following {
		out = append(out, spare(-1, "space", "pause"))
	} else {
		out = append(out, spare(-1, "space", "follow"))
	}
	out = append(out, key("tab", "one alone"), spare(4, "p", "pick"), spare(2, "l", "level"), key("f", "filter"), key("/", "search"))
	if v.search != "" {
		out = append(out, key("N n", "earlier, later"))
	}
	out = append(out, spare(3, "b", "last start"), spare(1, "e", "last error"), spare(4, "g", "time"), spare(6, "o", "as written"), spare(7, "w", "wrap"), spare(5, "m", "mark"), spare(5, "c", "copy"), spare(5, "s", "save"))
	return append(out, spare(-1, "?", "help"), spare(-1, "q", "leave"))
}

var logsHelp = []binding{
	key("space", "pause, or follow what comes"), key("↑ ↓", "scroll; pgup, pgdn: by a page"), key("home end", "the first, the newest"), key("← →", "sideways"),
	key("tab", "one service alone, then the next"), key("p", "pick services"), key("a", "all again, without filters"),
	key("l", "only this level and worse"), key("f", "only entries with a text or /regexp/"), key("/", "search, and mark what is found"),
	key("N n", "the match before, the one after"), key("b B", "the start before, the one after"), key("e E", "the error before, the one after"), key("g", "go to a time"),
	key("enter", "open or close a long entry"), key("o", "lines as they were written"), key("w", "wrap long lines"),
	key("m", "mark: then ↑ ↓ select more"), key("c", "copy what is selected"), key("s", "save what is shown to a file"),
}

func (v *logsView) key(m *model, pressed string) tea.Cmd {
	switch pressed {
	case "up":
		return v.selectBy(m, -1)
	case "down":
		return v.selectBy(m, 1)
	case "pgup":
		return v.selectBy(m, -max(1, v.rows-2))
	case "pgdown":
		return v.selectBy(m, max(1, v.rows-2))
	case "left":
		v.shift = max(0, v.shift-20)
	case "right":
		v.shift += 20
	case "home":
		v.pause()
		return v.goTo(m, v.query(), journal.Place{Seen: -1}, false)
	case "end":
		return v.follow(m)
	case "space":
		if v.following {
			v.pause()
			return nil
		}
		return v.follow(m)
	case "enter":
		v.pause()
		if v.cursor < len(v.entries) {
			place := v.entries[v.cursor].Place
			v.opened[place] = !v.opened[place]
		}
	case "w":
		v.wrapped, v.shift = !v.wrapped, 0
	case "o":
		v.raw = !v.raw
	case "m":
		v.pause()
		if v.mark >= 0 {
			v.mark = -1
		} else {
			v.mark = v.cursor
		}
	case "c":
		return v.copy(m)
	case "s":
		v.askFile(m)
	default:
		return v.narrow(m, pressed)
	}
	return nil
}

// narrow changes what is shown, or goes to something.
func (v *logsView) narrow(m *model, pressed string) tea.Cmd {
	switch pressed {
	case "tab", "shift+tab":
		v.alone(m, pressed == "tab")
		return v.anew(m)
	case "p":
		m.panel = &picker{view: v}
	case "a":
		v.services, v.level, v.filter = nil, journal.None, ""
		v.search, v.pattern = "", nil
		return v.anew(m)
	case "l":
		v.level = map[journal.Level]journal.Level{journal.None: journal.Info, journal.Info: journal.Warn, journal.Warn: journal.Error}[v.level]
		return v.anew(m)
	case "f":
		v.prompt = newPrompt("filter", v.filter, "a text, or an /expression/; nothing shows all", func(v *logsView, m *model, text string) (tea.Cmd, error) {
			if _, err := journal.Parse(text); err != nil {
				return nil, err
			}
			v.filter = text
			return v.anew(m), nil
		})
	case "/":
		v.prompt = newPrompt("search", v.search, "a text, or an /expression/", (*logsView).searchFor)
	case "n", "N":
		if v.search != "" {
			return v.jump(m, v.searched(), pressed == "N")
		}
	case "b", "B":
		q := v.query()
		q.Event, q.Level, q.Patterns = "start", journal.None, nil
		return v.jump(m, q, pressed == "b")
	case "e", "E":
		q := v.query()
		q.Level = journal.Error
		return v.jump(m, q, pressed == "e")
	case "g":
		v.prompt = newPrompt("go to", "", "14:05, or 10m for ten minutes ago", func(v *logsView, m *model, text string) (tea.Cmd, error) {
			at, err := journal.ParseTime(text, time.Now())
			if err != nil {
				return nil, err
			}
			v.pause()
			return v.goTo(m, v.query(), journal.At(at), true), nil
		})
	}
	return nil
}

func (v *logsView) searchFor(m *model, text string) (tea.Cmd, error) {
	pattern, err := journal.Parse(text)
	if err != nil {
		return nil, err
	}
	v.search, v.pattern = text, pattern
	v.begin(m)
	if text == "" {
		return nil, nil
	}
	v.pause()
	back, forth := v.searched(), v.searched()
	if here := v.here(); !here.IsZero() {
		forth.From, forth.Oldest = here, true
		here.Offset++ // the selected entry counts
		back.Before = here
	}
	return tea.Batch(v.find(m, back, forth), v.countMatches(m)), nil
}

// back undoes the nearest thing that esc undoes; false if there is none.
func (v *logsView) back() bool {
	switch {
	case v.mark >= 0:
		v.mark = -1
	case v.search != "":
		v.search, v.pattern = "", nil
	default:
		return false
	}
	return true
}

// click selects the entry on a row.
func (v *logsView) click(row int) {
	if row >= 0 && row < len(v.laid) {
		v.pause()
		v.cursor = v.laid[row]
	}
}

func (v *logsView) move(m *model, by int) {
	_ = v.selectBy(m, 3*by)
}

// alone shows one service after the other, and then all again.
func (v *logsView) alone(m *model, next bool) {
	names := slices.Sorted(slices.Values(m.order))
	at := -1
	if len(v.services) == 1 {
		at = slices.Index(names, v.services[0])
	}
	if next {
		at++
	} else if at--; at < -1 {
		at = len(names) - 1
	}
	v.services = nil
	if at >= 0 && at < len(names) {
		v.services = []string{names[at]}
	}
}

// picker chooses the services that are shown.
type picker struct {
	view *logsView
	at   int
}

func (p *picker) names(m *model) []string { return slices.Sorted(slices.Values(m.order)) }

func (p *picker) draw(m *model) []string {
	t := m.theme
	names := p.names(m)
	room := max(4, m.height-10)
	from := max(0, min(p.at-room/2, len(names)-room))
	colours := huesOf(names)
	var lines []string
	for i, name := range names[from:min(len(names), from+room)] {
		sign, in := "○ ", plain
		if len(p.view.services) == 0 || slices.Contains(p.view.services, name) {
			sign = "● "
		}
		mark := "  "
		if from+i == p.at {
			mark, in = "▌ ", accent
		}
		lines = append(lines, t.paint(accent, mark)+t.paint(colours[name], sign)+t.paint(in, name))
	}
	return m.frame("Whose entries to show", lines)
}

func (p *picker) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	names := p.names(m)
	if len(names) == 0 {
		m.panel = nil
		return nil
	}
	switch k.String() {
	case "up":
		p.at = max(0, p.at-1)
	case "down":
		p.at = min(len(names)-1, p.at+1)
	case "a":
		p.view.services = nil
	case "o":
		p.view.services = []string{names[p.at]}
	case "space":
		p.toggle(names)
	case "enter", "esc", "q":
		m.panel = nil
	default:
		return nil
	}
	return p.view.anew(m)
}

func (p *picker) toggle(names []string) {
	shown := p.view.services
	if len(shown) == 0 {
		shown = slices.Clone(names)
	}
	if i := slices.Index(shown, names[p.at]); i >= 0 {
		shown = slices.Delete(slices.Clone(shown), i, i+1)
	} else {
		shown = append(shown, names[p.at])
	}
	if len(shown) == len(names) || len(shown) == 0 {
		shown = nil
	}
	p.view.services = shown
}

func (p *picker) bindings() []binding {
	return []binding{key("↑ ↓", "choose"), key("space", "show or hide"), key("o", "only this"), key("a", "all"), key("enter", "done")}
}

// selection returns the selected entries.
func (v *logsView) selection() []journal.Entry {
	if len(v.entries) == 0 {
		return nil
	}
	from, to := v.cursor, v.cursor
	if v.mark >= 0 {
		from, to = min(v.mark, v.cursor), max(v.mark, v.cursor)
	}
	return v.entries[from:min(len(v.entries), to+1)]
}

func (v *logsView) copy(m *model) tea.Cmd {
	v.pause()
	all := v.selection()
	if len(all) == 0 {
		return nil
	}
	var texts []string
	for _, e := range all {
		texts = append(texts, joinLines(e.Text))
	}
	m.say(fmt.Sprintf("copied %d %s", len(all), plural(len(all), "entry", "entries")), false)
	v.mark = -1
	return tea.SetClipboard(strings.Join(texts, "\n"))
}

// joinLines returns a text of several lines without control sequences.
func joinLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = Plain(l)
	}
	return strings.Join(lines, "\n")
}

// savedMsg says how saving went.
type savedMsg struct {
	path string
	n    int
	err  error
}

// askFile asks where to save what is shown, or what is selected.
func (v *logsView) askFile(m *model) {
	name := fmt.Sprintf("%s-%s.log", m.overview.Project, time.Now().Format("20060102-150405"))
	v.prompt = newPrompt("save to", name, "a file, from the project's folder", func(v *logsView, m *model, text string) (tea.Cmd, error) {
		if text == "" {
			return nil, errors.New("write the file's name")
		}
		path := text
		if !filepath.IsAbs(path) {
			path = filepath.Join(m.overview.Dir, path)
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, fs.ErrExist) {
			return nil, fmt.Errorf("%s is there already; write another name", text)
		}
		if err != nil {
			return nil, err
		}
		if v.mark >= 0 {
			selected := v.selection()
			v.mark = -1
			return func() tea.Msg {
				n, err := writeEntries(f, selected)
				return savedMsg{path, n, errors.Join(err, f.Close())}
			}, nil
		}
		return v.save(m, f, path), nil
	})
}

// save writes everything that the filters let through.
func (v *logsView) save(m *model, f *os.File, path string) tea.Cmd {
	q := v.query()
	q.Oldest, q.N = true, 5000
	client := m.client
	m.say("saving…", false)
	return func() tea.Msg {
		n := 0
		for {
			ctx, cancel := context.WithTimeout(m.ctx, callLimit)
			a, err := client.Logs(ctx, q)
			cancel()
			if err == nil {
				var more int
				more, err = writeEntries(f, a.Entries)
				n += more
			}
			if err != nil || !a.More || len(a.Entries) == 0 {
				return savedMsg{path, n, errors.Join(err, f.Close())}
			}
			q.From = a.Entries[len(a.Entries)-1].Place
			q.From.Offset++
		}
	}
}

// writeEntries writes entries and returns how many those are.
func writeEntries(f *os.File, entries []journal.Entry) (int, error) {
	var b strings.Builder
	for _, e := range entries {
		at := strings.Repeat("-", 23)
		if !e.At.IsZero() {
			at = e.At.Local().Format("2006-01-02 15:04:05.000")
		}
		if e.Event != "" {
			at += "  --"
		}
		for line := range strings.SplitSeq(joinLines(e.Text), "\n") {
			fmt.Fprintf(&b, "%s  %s  %s\n", at, e.Service, line)
		}
	}
	_, err := f.WriteString(b.String())
	return len(entries), err
}
