// Package logs is the view of what services printed and what happened to them,
// on one time line.
package logs

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/tui/view"
)

// Args say where the logs are opened.
type Args struct {
	Service string // "": all
	At      time.Time
}

// Spec describes the view. Its argument is of type Args.
var Spec = view.Spec{ID: "logs", Title: "logs", Key: "2", New: open, Commands: commands}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	a, _ := args.(Args)
	v := newLogs(e, a.Service)
	cmd := v.anew()
	if !a.At.IsZero() {
		v.following = false
		cmd = tea.Batch(cmd, v.goTo(v.query(), journal.At(a.At), true))
	}
	return v, cmd
}

func commands(e *view.Env) []view.Command {
	out := []view.Command{{Says: "logs of all", Key: "2", Do: func() tea.Cmd { return e.Turn("logs", nil) }}}
	for _, name := range e.Order {
		out = append(out, view.Command{Says: "logs of " + name, Do: func() tea.Cmd { return e.Turn("logs", Args{Service: name}) }})
	}
	return out
}

// logs holds a window of entries of the time line and asks the keeper for more.
type logs struct {
	*view.Env
	width int

	// What is shown.
	services []string // none: all
	level    journal.Level
	filter   string
	search   string
	pattern  *journal.Pattern // of the search

	entries       []journal.Entry
	first, newest bool // the window begins with the first entry, ends with the newest
	following     bool
	cursor        int                    // the entry that is selected, while not following
	top, skip     int                    // the first entry on the screen, and how many of its rows are above it
	mark          int                    // the other end of a selection; -1: none
	opened        map[journal.Place]bool // long entries that are shown whole
	wrapped, raw  bool
	shift         int      // how many columns are out of sight on the left
	rows          int      // for entries, as drawn last
	laid          []int    // the entry on each row of the screen
	body          []string // the rows of the entries

	asking  bool // for the newest
	again   bool // something came meanwhile
	loading bool
	turn    int // answers to questions from before a change of what is shown don't count
	err     string

	matches  tally     // of the search
	position tally     // of the matches up to the cursor
	later    tally     // what came after the view was paused
	upTo     time.Time // of what has come until then, everything that is wanted was shown
	lastTold time.Time
	counting context.Context    // that of the counts under way
	stop     context.CancelFunc // ends them

	prompt *prompt
}

// tally is a count that may be under way.
type tally struct {
	n       int64
	known   bool
	running bool
}

// How many entries are asked for, and kept.
const (
	pageSize = 400
	kept     = 4000
	// growPause is the time between two questions for the newest entries.
	growPause = 40 * time.Millisecond
	// growing is how long an entry may still get more lines, in milliseconds.
	growing = 1500
)

// newLogs makes the view for a service, or for all.
func newLogs(e *view.Env, service string) *logs {
	v := &logs{Env: e, following: true, mark: -1, opened: map[journal.Place]bool{}, loading: true, stop: func() {}}
	if service != "" {
		v.services = []string{service}
	}
	return v
}

// Update takes a message.
func (v *logs) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Changed:
		return v.grown()
	case entriesMsg:
		return v.took(msg)
	case grownMsg:
		if msg.turn == v.turn {
			return v.grown()
		}
	case tallyMsg:
		return v.tallied(msg)
	case tea.MouseWheelMsg:
		if by := view.Wheel(msg); by != 0 {
			return v.selectBy(3 * by)
		}
	case tea.KeyPressMsg:
		v.typed(msg)
	case tea.PasteMsg:
		v.typed(msg)
	}
	return nil
}

// Fit tells the room there is, and lays out what is on the screen.
func (v *logs) Fit(width, height int) {
	v.width, v.rows = width, max(1, height-2)
	v.body = v.layOut()
}

// Typing reports whether the view asks for a text.
func (v *logs) Typing() bool { return v.prompt != nil }

// Close ends the counts under way.
func (v *logs) Close() { v.stop() }

// answer has the message of a command come to this view.
func (v *logs) answer(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() tea.Msg { return view.Answer{Instance: v.Instance, Msg: cmd()} }
}

// entriesMsg brings entries of the time line.
type entriesMsg struct {
	turn    int
	ask     question
	asked   time.Time
	entries []journal.Entry
	more    bool
	at      int // which of the entries was looked for
	found   bool
	err     error
}

type question int

const (
	askNewest question = iota // the end of the time line
	askGrown                  // what came since
	askOlder
	askNewer
	askAround // a place
)

// tallyMsg brings a count.
type tallyMsg struct {
	turn int
	of   func(*logs) *tally
	n    int64
	done bool
	next tea.Cmd
}

func (v *logs) query() api.LogQuery {
	q := api.LogQuery{Services: v.services, Events: true, Level: v.level, N: pageSize}
	if v.filter != "" {
		q.Patterns = []string{v.filter}
	}
	return q
}

// ask asks the keeper for entries.
func (v *logs) ask(what question, q api.LogQuery) tea.Cmd {
	turn := v.turn
	v.loading = v.loading || what != askGrown
	return v.Ask(view.CallLimit, func(ctx context.Context, client *api.Client) tea.Msg {
		asked := time.Now()
		a, err := client.Logs(ctx, q)
		return entriesMsg{turn: turn, ask: what, asked: asked, entries: a.Entries, more: a.More, err: err}
	})
}

// begin forgets the questions under way, and all counts.
func (v *logs) begin() {
	v.turn++
	v.stop()
	v.counting, v.stop = context.WithCancel(v.Context())
	v.asking, v.again, v.loading, v.err = false, false, false, ""
	v.matches, v.position, v.later = tally{}, tally{}, tally{}
}

// anew reads the time line from its end after a change of what is shown, or
// from around the selected entry.
func (v *logs) anew() tea.Cmd {
	v.begin()
	v.mark = -1
	var cmd tea.Cmd
	if v.following || v.cursor >= len(v.entries) {
		q := v.query()
		cmd = v.ask(askNewest, q)
	} else {
		cmd = v.goTo(v.query(), v.entries[v.cursor].Place, true)
	}
	return tea.Batch(cmd, v.countMatches(), v.countLater())
}

// grown is called when services have printed, or changed their state.
func (v *logs) grown() tea.Cmd {
	if !v.following {
		return v.countLater()
	}
	if v.asking || v.loading {
		v.again = true
		return nil
	}
	v.asking = true
	q := v.query()
	q.N = max(100, 2*v.rows)
	if n := len(v.entries); n > 0 && v.newest {
		q.From = journal.Place{Seen: v.entries[n-1].Place.Seen - growing}
	}
	return v.ask(askGrown, q)
}

// took takes entries that were asked for.
func (v *logs) took(msg entriesMsg) tea.Cmd {
	if msg.turn != v.turn {
		return nil
	}
	if msg.ask == askGrown {
		v.asking = false
	} else {
		v.loading = false
	}
	if msg.err != nil {
		v.err = msg.err.Error()
		return nil
	}
	v.err = ""
	switch msg.ask {
	case askNewest:
		v.entries, v.first, v.newest, v.upTo = msg.entries, !msg.more, true, msg.asked
		v.cursor = max(0, len(v.entries)-1)
	case askGrown:
		if v.following {
			v.upTo = msg.asked
			v.grow(msg.entries, msg.more)
		}
	case askOlder:
		v.entries = append(msg.entries, v.entries...)
		v.cursor, v.top = v.cursor+len(msg.entries), v.top+len(msg.entries)
		if v.mark >= 0 {
			v.mark += len(msg.entries)
		}
		v.first = !msg.more
		if extra := len(v.entries) - kept; extra > 0 && v.cursor < kept/2 {
			v.entries, v.newest = v.entries[:kept], false
		}
	case askNewer:
		if n := len(v.entries); n > 0 && len(msg.entries) > 0 && msg.entries[0].Place == v.entries[n-1].Place {
			msg.entries = msg.entries[1:]
		}
		v.entries = append(v.entries, msg.entries...)
		v.newest = !msg.more
		if extra := len(v.entries) - kept; extra > 0 && v.cursor > extra && v.mark < 0 {
			v.drop(extra)
		}
	case askAround:
		if !msg.found {
			v.Say("there is none", false)
			return nil
		}
		v.pause()
		v.entries, v.first, v.newest = msg.entries, false, !msg.more
		v.cursor, v.mark = msg.at, -1
		v.top, v.skip = max(0, v.cursor-v.rows/3), 0
		return tea.Batch(v.countPosition(), v.countLater())
	}
	if v.again {
		v.again = false
		turn := v.turn
		return v.answer(tea.Tick(growPause, func(time.Time) tea.Msg { return grownMsg{turn} }))
	}
	return nil
}

// grownMsg says that more has come since the last question.
type grownMsg struct{ turn int }

// grow replaces the end of the window by what is there now.
func (v *logs) grow(entries []journal.Entry, more bool) {
	if more || len(v.entries) == 0 {
		v.entries, v.first = entries, v.first && !more
	} else {
		from := journal.Place{Seen: v.entries[len(v.entries)-1].Place.Seen - growing}
		keep, _ := slices.BinarySearchFunc(v.entries, from, func(e journal.Entry, p journal.Place) int { return e.Place.Compare(p) })
		v.entries = append(v.entries[:keep:keep], entries...)
	}
	v.newest = true
	if extra := len(v.entries) - kept; extra > 0 {
		v.drop(extra)
	}
	v.cursor = max(0, len(v.entries)-1)
}

// drop forgets the oldest entries of the window.
func (v *logs) drop(n int) {
	v.entries = slices.Clone(v.entries[n:])
	v.first = false
	v.cursor, v.top = max(0, v.cursor-n), max(0, v.top-n)
}

// pause stops following, with the newest entry selected.
func (v *logs) pause() {
	if !v.following {
		return
	}
	v.following = false
	v.cursor = max(0, len(v.entries)-1)
	v.later = tally{}
}

func (v *logs) follow() tea.Cmd {
	v.following, v.mark = true, -1
	v.later = tally{}
	if v.newest {
		return v.grown()
	}
	return v.anew()
}

// selectBy moves the selection, and asks for more near the window's ends.
func (v *logs) selectBy(by int) tea.Cmd {
	if len(v.entries) == 0 {
		if by < 0 { // also while they are still read
			v.pause()
		}
		return nil
	}
	if v.following {
		if by > 0 {
			return nil
		}
		v.pause()
	}
	if v.scrollWithin(by) {
		return nil
	}
	last := len(v.entries) - 1
	if by > 0 && v.cursor == last && v.newest && v.mark < 0 {
		return v.follow()
	}
	v.cursor = max(0, min(last, v.cursor+by))
	if v.loading {
		return nil
	}
	const near = 60
	q := v.query()
	switch {
	case by < 0 && v.cursor < near && !v.first:
		q.Before = v.entries[0].Place
		return v.ask(askOlder, q)
	case by > 0 && v.cursor > last-near && !v.newest:
		q.From, q.Oldest = v.entries[last].Place, true
		return v.ask(askNewer, q)
	}
	return nil
}

func (v *logs) lookFor(q api.LogQuery, where func(context.Context, *api.Client) (journal.Place, bool, error), nearest bool) tea.Cmd {
	turn := v.turn
	v.loading = true
	return v.Ask(view.CallLimit, func(ctx context.Context, client *api.Client) tea.Msg {
		msg := entriesMsg{turn: turn, ask: askAround}
		place, found, err := where(ctx, client)
		if err != nil || !found {
			msg.err = err
			return msg
		}
		older, newer := q, q
		older.Before, older.N = place, pageSize/2
		newer.From, newer.Oldest = place, true
		before, err := client.Logs(ctx, older)
		if err == nil {
			var after journal.Answer
			after, err = client.Logs(ctx, newer)
			msg.entries = append(before.Entries, after.Entries...)
			msg.at, msg.more, msg.found = len(before.Entries), after.More, len(after.Entries) > 0
			if !msg.found && nearest && len(msg.entries) > 0 {
				msg.at, msg.found = len(msg.entries)-1, true
			}
		}
		msg.err = err
		return msg
	})
}

// shownServices says in words whose entries are shown.
func (v *logs) shownServices() string {
	switch len(v.services) {
	case 0:
		return "all services"
	case 1:
		return v.services[0]
	}
	return fmt.Sprintf("%d services", len(v.services))
}
