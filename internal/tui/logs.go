package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/journal"
)

// logsView is the Logs view: what services printed and what happened to them,
// on one time line. It holds a window of entries and asks the keeper for more.
type logsView struct {
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
	shift         int   // how many columns are out of sight on the left
	rows          int   // for entries, as drawn last
	laid          []int // the entry on each row of the screen

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
	logsPage = 400
	logsKept = 4000
	// logsPause is the time between two questions for the newest entries.
	logsPause = 40 * time.Millisecond
	// logsGrow is how long an entry may still get more lines, in milliseconds.
	logsGrow = 1500
)

// newLogs makes the view for a service, or for all.
func newLogs(service string) *logsView {
	v := &logsView{following: true, mark: -1, opened: map[journal.Place]bool{}, loading: true, stop: func() {}}
	if service != "" {
		v.services = []string{service}
	}
	return v
}

func (*logsView) title() string { return "logs" }

// logsMsg brings entries of the time line.
type logsMsg struct {
	turn    int
	ask     logsAsk
	asked   time.Time
	entries []journal.Entry
	more    bool
	at      int // which of the entries was looked for
	found   bool
	err     error
}

type logsAsk int

const (
	askNewest logsAsk = iota // the end of the time line
	askGrown                 // what came since
	askOlder
	askNewer
	askAround // a place
)

// tallyMsg brings a count.
type tallyMsg struct {
	turn int
	of   func(*logsView) *tally
	n    int64
	done bool
	next tea.Cmd
}

func (v *logsView) query() api.LogQuery {
	q := api.LogQuery{Services: v.services, Events: true, Level: v.level, N: logsPage}
	if v.filter != "" {
		q.Patterns = []string{v.filter}
	}
	return q
}

// ask asks the keeper for entries.
func (v *logsView) ask(m *model, what logsAsk, q api.LogQuery) tea.Cmd {
	client, turn := m.client, v.turn
	v.loading = v.loading || what != askGrown
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		asked := time.Now()
		a, err := client.Logs(ctx, q)
		return logsMsg{turn: turn, ask: what, asked: asked, entries: a.Entries, more: a.More, err: err}
	}
}

// begin forgets the questions under way, and all counts.
func (v *logsView) begin(m *model) {
	v.turn++
	v.stop()
	v.counting, v.stop = context.WithCancel(m.ctx)
	v.asking, v.again, v.loading, v.err = false, false, false, ""
	v.matches, v.position, v.later = tally{}, tally{}, tally{}
}

// anew reads the time line from its end after a change of what is shown, or
// from around the selected entry.
func (v *logsView) anew(m *model) tea.Cmd {
	v.begin(m)
	v.mark = -1
	var cmd tea.Cmd
	if v.following || v.cursor >= len(v.entries) {
		q := v.query()
		cmd = v.ask(m, askNewest, q)
	} else {
		cmd = v.goTo(m, v.query(), v.entries[v.cursor].Place, true)
	}
	return tea.Batch(cmd, v.countMatches(m), v.countLater(m))
}

// grown is called when services have printed, or changed their state.
func (v *logsView) grown(m *model) tea.Cmd {
	if !v.following {
		return v.countLater(m)
	}
	if v.asking || v.loading {
		v.again = true
		return nil
	}
	v.asking = true
	q := v.query()
	q.N = max(100, 2*v.rows)
	if n := len(v.entries); n > 0 && v.newest {
		q.From = journal.Place{Seen: v.entries[n-1].Place.Seen - logsGrow}
	}
	return v.ask(m, askGrown, q)
}

// took takes entries that were asked for.
func (v *logsView) took(m *model, msg logsMsg) tea.Cmd {
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
		if extra := len(v.entries) - logsKept; extra > 0 && v.cursor < logsKept/2 {
			v.entries, v.newest = v.entries[:logsKept], false
		}
	case askNewer:
		if n := len(v.entries); n > 0 && len(msg.entries) > 0 && msg.entries[0].Place == v.entries[n-1].Place {
			msg.entries = msg.entries[1:]
		}
		v.entries = append(v.entries, msg.entries...)
		v.newest = !msg.more
		if extra := len(v.entries) - logsKept; extra > 0 && v.cursor > extra && v.mark < 0 {
			v.drop(extra)
		}
	case askAround:
		if !msg.found {
			m.say("there is none", false)
			return nil
		}
		v.pause()
		v.entries, v.first, v.newest = msg.entries, false, !msg.more
		v.cursor, v.mark = msg.at, -1
		v.top, v.skip = max(0, v.cursor-v.rows/3), 0
		return tea.Batch(v.countPosition(m), v.countLater(m))
	}
	if v.again {
		v.again = false
		turn := v.turn
		return tea.Tick(logsPause, func(time.Time) tea.Msg { return logsGrownMsg{turn} })
	}
	return nil
}

// logsGrownMsg says that more has come since the last question.
type logsGrownMsg struct{ turn int }

// grow replaces the end of the window by what is there now.
func (v *logsView) grow(entries []journal.Entry, more bool) {
	if more || len(v.entries) == 0 {
		v.entries, v.first = entries, v.first && !more
	} else {
		from := journal.Place{Seen: v.entries[len(v.entries)-1].Place.Seen - logsGrow}
		keep, _ := slices.BinarySearchFunc(v.entries, from, func(e journal.Entry, p journal.Place) int { return e.Place.Compare(p) })
		v.entries = append(v.entries[:keep:keep], entries...)
	}
	v.newest = true
	if extra := len(v.entries) - logsKept; extra > 0 {
		v.drop(extra)
	}
	v.cursor = max(0, len(v.entries)-1)
}

// drop forgets the oldest entries of the window.
func (v *logsView) drop(n int) {
	v.entries = slices.Clone(v.entries[n:])
	v.first = false
	v.cursor, v.top = max(0, v.cursor-n), max(0, v.top-n)
}

// pause stops following, with the newest entry selected.
func (v *logsView) pause() {
	if !v.following {
		return
	}
	v.following = false
	v.cursor = max(0, len(v.entries)-1)
	v.later = tally{}
}

func (v *logsView) follow(m *model) tea.Cmd {
	v.following, v.mark = true, -1
	v.later = tally{}
	if v.newest {
		return v.grown(m)
	}
	return v.anew(m)
}

// selectBy moves the selection, and asks for more near the window's ends.
func (v *logsView) selectBy(m *model, by int) tea.Cmd {
	if len(v.entries) == 0 {
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
		return v.follow(m)
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
		return v.ask(m, askOlder, q)
	case by > 0 && v.cursor > last-near && !v.newest:
		q.From, q.Oldest = v.entries[last].Place, true
		return v.ask(m, askNewer, q)
	}
	return nil
}

// goTo shows what is around a place: the entry there, or the first after it,
// or with nearest the last before it if there is none.
func (v *logsView) goTo(m *model, q api.LogQuery, place journal.Place, nearest bool) tea.Cmd {
	return v.lookFor(m, q, func(context.Context, *api.Client) (journal.Place, bool, error) { return place, true, nil }, nearest)
}

// find shows what is around the first entry that one of the queries finds,
// other than the selected one.
func (v *logsView) find(m *model, queries ...api.LogQuery) tea.Cmd {
	here := v.here()
	return v.lookFor(m, v.query(), func(ctx context.Context, c *api.Client) (journal.Place, bool, error) {
		for _, q := range queries {
			q.N = 2 // one of them may be the selected one
			a, err := c.Logs(ctx, q)
			if err != nil {
				return journal.Place{}, false, err
			}
			if !q.Oldest {
				slices.Reverse(a.Entries)
			}
			for _, e := range a.Entries {
				if e.Place != here || !q.Oldest {
					return e.Place, true, nil
				}
			}
		}
		return journal.Place{}, false, nil
	}, false)
}

func (v *logsView) lookFor(m *model, q api.LogQuery, where func(context.Context, *api.Client) (journal.Place, bool, error), nearest bool) tea.Cmd {
	client, turn := m.client, v.turn
	v.loading = true
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		msg := logsMsg{turn: turn, ask: askAround}
		place, found, err := where(ctx, client)
		if err != nil || !found {
			msg.err = err
			return msg
		}
		older, newer := q, q
		older.Before, older.N = place, logsPage/2
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
	}
}

// here returns the place of the selected entry; when following, none.
func (v *logsView) here() journal.Place {
	if v.following || v.cursor >= len(v.entries) {
		return journal.Place{}
	}
	return v.entries[v.cursor].Place
}

// jump goes to the nearest entry that a query finds before the selected one,
// or after it.
func (v *logsView) jump(m *model, q api.LogQuery, back bool) tea.Cmd {
	here := v.here()
	switch {
	case back:
		q.Before = here
	case here.IsZero():
		return nil
	default:
		q.From, q.Oldest = here, true
	}
	return v.find(m, q)
}

// count counts what a query finds, and shows how far that has come.
func (v *logsView) count(m *model, q api.LogQuery, of func(*logsView) *tally) tea.Cmd {
	of(v).running = true
	client, turn, ctx := m.client, v.turn, v.counting
	progress := make(chan tallyMsg, 1)
	var next tea.Cmd
	next = func() tea.Msg {
		msg, ok := <-progress
		if !ok {
			return nil
		}
		if !msg.done {
			msg.next = next
		}
		return msg
	}
	return func() tea.Msg {
		go func() {
			defer close(progress)
			c, err := client.CountLogs(ctx, q, func(c journal.Count) {
				select {
				case progress <- tallyMsg{turn: turn, of: of, n: c.Entries}:
				default: // the one before isn't shown yet
				}
			})
			if err == nil {
				select { // in place of one that isn't shown yet
				case <-progress:
				default:
				}
				progress <- tallyMsg{turn: turn, of: of, n: c.Entries, done: true}
			}
		}()
		return next()
	}
}

func (v *logsView) tallied(msg tallyMsg) tea.Cmd {
	if msg.turn == v.turn {
		*msg.of(v) = tally{n: msg.n, known: true, running: !msg.done}
	}
	return msg.next
}

func (v *logsView) searched() api.LogQuery {
	q := v.query()
	q.Events = false
	q.Patterns = append(q.Patterns, v.search)
	return q
}

func (v *logsView) countMatches(m *model) tea.Cmd {
	if v.search == "" {
		return nil
	}
	return v.count(m, v.searched(), func(v *logsView) *tally { return &v.matches })
}

// countPosition counts the matches up to the selected entry.
func (v *logsView) countPosition(m *model) tea.Cmd {
	if v.search == "" || v.here().IsZero() {
		return nil
	}
	q := v.searched()
	q.Before = v.here()
	q.Before.Offset++
	return v.count(m, q, func(v *logsView) *tally { return &v.position })
}

// countLater counts what has come since the view was paused, at most once in
// half a second.
func (v *logsView) countLater(m *model) tea.Cmd {
	if v.following || v.later.running || time.Since(v.lastTold) < 500*time.Millisecond {
		return nil
	}
	v.lastTold = time.Now()
	q := v.query()
	q.From = journal.At(v.upTo)
	return v.count(m, q, func(v *logsView) *tally { return &v.later })
}

// shownServices says in words whose entries are shown.
func (v *logsView) shownServices() string {
	switch len(v.services) {
	case 0:
		return "all services"
	case 1:
		return v.services[0]
	}
	return fmt.Sprintf("%d services", len(v.services))
}
