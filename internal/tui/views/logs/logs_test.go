package logs

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"neighbour/internal/api"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

// opening is the view on a host of its own.
type opening struct {
	v    *logs
	host *viewtest.Host
}

// opened is the view of a keeper that isn't there: what it asks is answered by
// the test.
func opened(t *testing.T, width, height int, service string) *opening {
	e, host := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), width, height, api.Status{Name: "service-0"}, api.Status{Name: "service-1"})
	m := &opening{newLogs(e, service), host}
	m.v.anew()
	m.v.Fit(width, height-3)
	return m
}

func (m *opening) update(msg tea.Msg) tea.Cmd {
	if a, ok := msg.(view.Answer); ok {
		msg = a.Msg
	}
	if l, ok := msg.(view.Later); ok {
		return l()
	}
	cmd := m.v.Update(msg)
	m.v.Fit(m.v.width, m.v.rows+2)
	return cmd
}

func (m *opening) press(name string) tea.Cmd {
	k := viewtest.Key(name)
	var keys []view.Binding
	if p := m.host.Panel; p != nil {
		keys = p.Bindings()
	} else {
		keys = m.v.Bindings()
	}
	cmd, done := view.Press(keys, k)
	if !done && m.v.Typing() {
		cmd = m.v.Update(k)
	}
	m.v.Fit(m.v.width, m.v.rows+2)
	return cmd
}

func (m *opening) settle(cmd tea.Cmd) { viewtest.Settle(cmd, m.update) }

func (m *opening) text() string { return ansi.Strip(strings.Join(m.v.Render().Lines, "\n")) }

// numbered are entries of a service, a second apart.
func numbered(from, to int) []journal.Entry {
	var out []journal.Entry
	for i := from; i < to; i++ {
		text := fmt.Sprintf("entry %d.", i)
		out = append(out, journal.Entry{Service: "service-0", At: time.Date(2026, 11, 23, 12, 0, i%60, 0, time.Local), Text: text, Message: text, Place: journal.Place{Seen: int64(i * 1000), Log: "service-0", Offset: int64(i * 10)}})
	}
	return out
}

func TestLogsFollowAndPause(t *testing.T) {
	m := opened(t, 120, 20, "")
	v := m.v
	assert.Contains(t, m.text(), "Reading the logs…")
	m.update(entriesMsg{turn: v.turn, ask: askNewest, entries: numbered(0, 40), more: true})
	assert.Contains(t, m.text(), "entry 39.")
	assert.Contains(t, m.text(), "following")
	assert.False(t, v.first, "there is more above")

	// What has come is put in the place of what may have grown.
	v.grown()
	assert.True(t, v.asking)
	v.grown()
	assert.True(t, v.again, "one question at a time")
	m.update(entriesMsg{turn: v.turn, ask: askGrown, entries: numbered(38, 43)})
	assert.Contains(t, m.text(), "entry 42.")
	assert.Len(t, v.entries, 43, "nothing twice")
	m.update(entriesMsg{turn: v.turn, ask: askGrown, entries: numbered(500, 530), more: true})
	assert.Len(t, v.entries, 30, "after a gap the window begins anew")

	m.press("up")
	assert.Contains(t, m.text(), "paused · at 12:00:48.000, 23 November")
	m.update(entriesMsg{turn: v.turn, ask: askGrown, entries: numbered(529, 560)})
	assert.NotContains(t, m.text(), "entry 559.", "what comes doesn't move what is read")
	m.update(tallyMsg{turn: v.turn, of: func(v *logs) *tally { return &v.later }, n: 12345, done: true})
	assert.Contains(t, m.text(), "12,345 more since")
	m.update(tallyMsg{turn: v.turn - 1, of: func(v *logs) *tally { return &v.later }, n: 7, done: true})
	assert.Contains(t, m.text(), "12,345 more since", "an answer to what is shown no longer")

	// Older ones come above, and the selection stays.
	before := v.entries[v.cursor].Place
	v.first = false
	for range 20 {
		m.press("up")
	}
	assert.True(t, v.loading, "near the window's upper end")
	m.update(entriesMsg{turn: v.turn, ask: askOlder, entries: numbered(450, 500)})
	assert.Equal(t, before.Seen-20_000, v.entries[v.cursor].Place.Seen)
	assert.True(t, v.first)
	m.press("space")
	assert.True(t, v.following)
}

func TestLogsSearchMarkAndLongEntries(t *testing.T) {
	m := opened(t, 120, 24, "service-0")
	v := m.v
	assert.Equal(t, []string{"service-0"}, v.services)
	entries := numbered(0, 10)
	entries[4].Message = "first\n  two\n  three\n  four\n  five\n  six"
	entries[4].Text, entries[4].Level = entries[4].Message, journal.Error
	m.update(entriesMsg{turn: v.turn, ask: askNewest, entries: entries})
	assert.Contains(t, m.text(), "… 3 more lines (enter)")
	assert.NotContains(t, m.text(), "six")
	m.update(entriesMsg{turn: v.turn, ask: askAround, entries: entries, at: 4, found: true})
	m.press("enter")
	assert.Contains(t, m.text(), "six")

	for _, k := range "/entry 7" {
		m.press(string(k))
	}
	assert.Contains(t, m.text(), "search entry 7")
	m.press("enter")
	assert.Equal(t, "entry 7", v.search)
	m.update(tallyMsg{turn: v.turn, of: func(v *logs) *tally { return &v.matches }, n: 3})
	assert.Contains(t, m.text(), "3 entries so far")
	m.update(tallyMsg{turn: v.turn, of: func(v *logs) *tally { return &v.matches }, n: 4, done: true})
	m.update(tallyMsg{turn: v.turn, of: func(v *logs) *tally { return &v.position }, n: 2, done: true})
	assert.Contains(t, m.text(), "search entry 7  2 of 4")
	m.press("/")
	m.press("backspace")
	for _, k := range "/(/" {
		m.press(string(k))
	}
	v.prompt.input.SetValue("/(/")
	m.press("enter")
	assert.Contains(t, m.text(), "is not a regular expression", "said where it is typed")
	m.press("esc")
	m.press("m")
	m.press("down")
	m.press("down")
	assert.Contains(t, m.text(), "3 marked: c copies, s saves")
	m.press("c")
	assert.Contains(t, m.host.Said, "copied 3 entries")
	m.press("esc")
	assert.Empty(t, v.search, "esc ends the search first")
}

// A service keeps its colour when another is declared, and neighbours differ.
func TestServicesHaveColoursOfTheirOwn(t *testing.T) {
	names := []string{"api", "ledger", "postbox", "reminders", "shelf", "web"}
	seen := map[ui.Ink]bool{}
	colours := huesOf(names)
	for _, in := range colours {
		seen[in] = true
	}
	assert.Len(t, seen, len(names))
	assert.Equal(t, colours["api"], huesOf(append(names, "zebra"))["api"])
	assert.Len(t, huesOf(strings.Fields("a b c d e f g h i j k l m n o p q r s t")), 20, "there are fewer colours than services")
}
