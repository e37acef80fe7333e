package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/api"
	"neighbour/internal/core/journal"
)

// pageLines is how many lines are asked for at a time, and keptLines how
// many are held at most.
const (
	pageLines = 1000
	keptLines = 20_000
)

// logView is the log of one service.
type logView struct {
	service string
	lines   []journal.Line
	loading bool
	whole   bool // the first line is the log's first
	err     string

	following bool
	wrapped   bool
	top       int // the first row shown, when not following
	rows      int // shown the last time

	drawn    []string // the lines as rows, for the width
	drawnFor string
}

// logMsg brings lines of a log.
type logMsg struct {
	service string
	before  int64
	lines   []journal.Line
	err     error
}

func (m *model) openLog(s api.Status) tea.Cmd {
	m.log = &logView{service: s.Name, following: true, loading: true}
	return m.fetchLog(s.Name, -1)
}

func (m *model) fetchLog(service string, before int64) tea.Cmd {
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		lines, err := client.Log(ctx, service, before, pageLines)
		return logMsg{service, before, lines, err}
	}
}

// took takes lines that were asked for.
func (l *logView) took(m *model, msg logMsg) {
	if l == nil || l.service != msg.service {
		return
	}
	l.loading = false
	if msg.err != nil {
		l.err = msg.err.Error()
		return
	}
	l.err = ""
	if msg.before >= 0 {
		before := len(l.render(m))
		l.lines = append(msg.lines, l.lines...)
		l.drawnFor = ""
		l.top += len(l.render(m)) - before // what was seen stays where it is
	} else {
		// What came meanwhile by events is in the answer, or newer.
		newer := l.lines
		l.lines = msg.lines
		l.add(newer)
	}
	l.whole = len(msg.lines) < pageLines
	l.drawnFor = ""
}

// follow takes the newest lines of a status.
func (l *logView) follow(s api.Status) {
	l.add(s.Lines)
}

// add takes those lines that are newer than the last.
func (l *logView) add(lines []journal.Line) {
	if n := len(l.lines); n > 0 && len(lines) > 0 && lines[len(lines)-1].Offset < l.lines[n-1].Offset {
		l.lines = nil // the log was begun anew
	}
	for _, line := range lines {
		if n := len(l.lines); n == 0 || line.Offset > l.lines[n-1].Offset {
			l.lines = append(l.lines, line)
			l.drawnFor = ""
		}
	}
	if extra := len(l.lines) - keptLines; extra > 0 && l.following {
		l.lines = l.lines[extra:]
		l.whole = false
	}
}

// render makes the rows of the screen.
func (l *logView) render(m *model) []string {
	key := fmt.Sprint(m.width, l.wrapped, len(l.lines))
	if l.drawnFor == key {
		return l.drawn
	}
	const gutter = 12
	t := m.theme
	width := m.width - gutter - 2
	l.drawn = l.drawn[:0]
	for _, line := range l.lines {
		at := "        "
		if !line.At.IsZero() {
			at = line.At.Local().Format("15:04:05")
		}
		rows := []string{Truncate(m.output(line.Text), width)}
		if l.wrapped {
			rows = strings.Split(ansi.Hardwrap(m.output(line.Text), width, true), "\n")
		}
		for i, row := range rows {
			if i > 0 {
				at = "        "
			}
			l.drawn = append(l.drawn, "  "+t.paint(faint, at)+"  "+row)
		}
	}
	l.drawnFor = key
	return l.drawn
}

func (l *logView) draw(m *model, rows int) []string {
	t := m.theme
	rows-- // the line below
	all := l.render(m)
	l.rows = rows
	last := max(0, len(all)-rows)
	if l.following || l.top >= last {
		l.top = last
	}
	l.top = max(0, l.top)
	out := append([]string(nil), all[l.top:min(len(all), l.top+rows)]...)
	if len(all) == 0 {
		text := l.service + " has printed nothing yet"
		if l.loading {
			text = "Reading the log…"
		}
		out = append(out, "  "+t.paint(faint, text))
	}
	for len(out) < rows {
		out = append(out, "")
	}
	state := "following"
	if !l.following {
		state = fmt.Sprintf("paused, %d lines below", len(all)-min(len(all), l.top+rows))
	}
	if l.err != "" {
		state = l.err
	}
	text := fmt.Sprintf(" %d lines · %s ", len(l.lines), Plain(state))
	if !l.whole && len(l.lines) > 0 {
		text = fmt.Sprintf(" the latest %d lines, older ones further up · %s ", len(l.lines), Plain(state))
	}
	return append(out, t.paint(line, "──")+t.paint(faint, Truncate(text, m.width-4))+t.paint(line, strings.Repeat("─", max(0, m.width-2-Width(text)))))
}

func (l *logView) bindings() []binding {
	out := []binding{key("esc", "back"), key("↑ ↓", "scroll"), spare(5, "home end", "first, last")}
	if l.following {
		out = append(out, key("space", "pause"))
	} else {
		out = append(out, key("space", "follow"))
	}
	wrapping := "wrap lines"
	if l.wrapped {
		wrapping = "cut lines"
	}
	return append(out, spare(3, "w", wrapping), spare(4, "tab", "next service"), spare(2, "?", "help"), key("q", "leave"))
}

func (l *logView) key(m *model, pressed string) tea.Cmd {
	switch pressed {
	case "esc", "1", "enter", "left":
		m.log = nil
	case "up":
		return l.scroll(m, -1)
	case "down":
		return l.scroll(m, 1)
	case "pgup":
		return l.scroll(m, -l.rows+1)
	case "pgdown":
		return l.scroll(m, l.rows-1)
	case "home":
		return l.scroll(m, -len(l.render(m)))
	case "end":
		l.following = true
	case "space", "f":
		l.following = !l.following
	case "w":
		l.wrapped = !l.wrapped
	case "tab", "shift+tab":
		by := 1
		if pressed == "shift+tab" {
			by = -1
		}
		m.step(by)
		return m.openLog(m.services[m.selected])
	}
	return nil
}

// scroll moves through the log; at its upper end it asks for older lines, at
// its lower end it follows again.
func (l *logView) scroll(m *model, by int) tea.Cmd {
	last := max(0, len(l.render(m))-l.rows)
	l.top = max(0, min(last, l.top+by))
	l.following = by > 0 && l.top == last
	if by < 0 && l.top == 0 && !l.whole && !l.loading && len(l.lines) > 0 {
		l.loading = true
		return m.fetchLog(l.service, l.lines[0].Offset)
	}
	return nil
}
