package tui

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/core/journal"
)

// numbered are entries of a service, a second apart.
func numbered(from, to int) []journal.Entry {
	var out []journal.Entry
	for i := from; i < to; i++ {
		text := fmt.Sprintf("entry %d.", i)
		out = append(out, journal.Entry{Service: "service-0", At: time.Date(2026, 11, 23, 12, 0, i%60, 0, time.Local), Text: text, Message: text, Place: journal.Place{Seen: int64(i * 1000), Log: "service-0", Offset: int64(i * 10)}})
	}
	return out
}

func logsOn(m *model) *logsView { return m.page.(*logsView) }

func TestLogsFollowAndPause(t *testing.T) {
	m := shown(120, 20, toolshed(3)...)
	press(m, "2")
	v := logsOn(m)
	assert.Contains(t, text(m), "Reading the logs…")
	m.Update(logsMsg{turn: v.turn, ask: askNewest, entries: numbered(0, 40), more: true})
	assert.Contains(t, text(m), "entry 39.")
	assert.Contains(t, text(m), "following")
	assert.False(t, v.first, "there is more above")

	// What has come is put in the place of what may have grown.
	v.grown(m)
	assert.True(t, v.asking)
	v.grown(m)
	assert.True(t, v.again, "one question at a time")
	m.Update(logsMsg{turn: v.turn, ask: askGrown, entries: numbered(38, 43)})
	assert.Contains(t, text(m), "entry 42.")
	assert.Len(t, v.entries, 43, "nothing twice")
	m.Update(logsMsg{turn: v.turn, ask: askGrown, entries: numbered(500, 530), more: true})
	assert.Len(t, v.entries, 30, "after a gap the window begins anew")

	press(m, "up")
	assert.Contains(t, text(m), "paused · at 12:00:48.000, 23 November")
	m.Update(logsMsg{turn: v.turn, ask: askGrown, entries: numbered(529, 560)})
	assert.NotContains(t, text(m), "entry 559.", "what comes doesn't move what is read")
	m.Update(tallyMsg{turn: v.turn, of: func(v *logsView) *tally { return &v.later }, n: 12345, done: true})
	assert.Contains(t, text(m), "12,345 more since")
	m.Update(tallyMsg{turn: v.turn - 1, of: func(v *logsView) *tally { return &v.later }, n: 7, done: true})
	assert.Contains(t, text(m), "12,345 more since", "an answer to what is shown no longer")

	// Older ones come above, and the selection stays.
	before := v.entries[v.cursor].Place
	v.first = false
	for range 20 {
		press(m, "up")
	}
	assert.True(t, v.loading, "near the window's upper end")
	m.Update(logsMsg{turn: v.turn, ask: askOlder, entries: numbered(450, 500)})
	assert.Equal(t, before.Seen-20_000, v.entries[v.cursor].Place.Seen)
	assert.True(t, v.first)
	press(m, "space")
	assert.True(t, v.following)
}

func TestLogsSearchMarkAndLongEntries(t *testing.T) {
	m := shown(120, 24, toolshed(3)...)
	press(m, "enter")
	v := logsOn(m)
	assert.Equal(t, []string{"service-0"}, v.services, "those of the selected service")
	entries := numbered(0, 10)
	entries[4].Message = "first\n  two\n  three\n  four\n  five\n  six"
	entries[4].Text, entries[4].Level = entries[4].Message, journal.Error
	m.Update(logsMsg{turn: v.turn, ask: askNewest, entries: entries})
	assert.Contains(t, text(m), "… 3 more lines (enter)")
	assert.NotContains(t, text(m), "six")
	m.Update(logsMsg{turn: v.turn, ask: askAround, entries: entries, at: 4, found: true})
	press(m, "enter")
	assert.Contains(t, text(m), "six")

	for _, k := range "/entry 7" {
		press(m, string(k))
	}
	assert.Contains(t, text(m), "search entry 7")
	press(m, "enter")
	assert.Equal(t, "entry 7", v.search)
	m.Update(tallyMsg{turn: v.turn, of: func(v *logsView) *tally { return &v.matches }, n: 3})
	assert.Contains(t, text(m), "3 entries so far")
	m.Update(tallyMsg{turn: v.turn, of: func(v *logsView) *tally { return &v.matches }, n: 4, done: true})
	m.Update(tallyMsg{turn: v.turn, of: func(v *logsView) *tally { return &v.position }, n: 2, done: true})
	assert.Contains(t, text(m), "search entry 7  2 of 4")
	press(m, "/")
	press(m, "backspace")
	for _, k := range "/(/" {
		press(m, string(k))
	}
	v.prompt.input.SetValue("/(/")
	press(m, "enter")
	assert.Contains(t, text(m), "is not a regular expression", "said where it is typed")
	press(m, "esc")
	press(m, "m")
	press(m, "down")
	press(m, "down")
	assert.Contains(t, text(m), "3 marked: c copies, s saves")
	press(m, "c")
	assert.Contains(t, text(m), "copied 3 entries")
	press(m, "esc")
	assert.Empty(t, v.search, "esc ends the search first")
	press(m, "esc")
	assert.Nil(t, m.page)
}

// A service keeps its colour when another is declared, and neighbours differ.
func TestServicesHaveColoursOfTheirOwn(t *testing.T) {
	names := []string{"api", "ledger", "postbox", "reminders", "shelf", "web"}
	seen := map[ink]bool{}
	colours := huesOf(names)
	for _, in := range colours {
		seen[in] = true
	}
	assert.Len(t, seen, len(names))
	assert.Equal(t, colours["api"], huesOf(append(names, "zebra"))["api"])
	assert.Len(t, huesOf(strings.Fields("a b c d e f g h i j k l m n o p q r s t")), 20, "there are fewer colours than services")
}
