package logs

import (
	"context"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/record/journal"
)

// goTo shows what is around a place: the entry there, or the first after it,
// or with nearest the last before it if there is none.
func (v *logs) goTo(q api.LogQuery, place journal.Place, nearest bool) tea.Cmd {
	return v.lookFor(q, func(context.Context, *api.Client) (journal.Place, bool, error) { return place, true, nil }, nearest)
}

// find shows what is around the first entry that one of the queries finds,
// other than the selected one.
func (v *logs) find(queries ...api.LogQuery) tea.Cmd {
	here := v.here()
	return v.lookFor(v.query(), func(ctx context.Context, c *api.Client) (journal.Place, bool, error) {
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

// here returns the place of the selected entry; when following, none.
func (v *logs) here() journal.Place {
	if v.following || v.cursor >= len(v.entries) {
		return journal.Place{}
	}
	return v.entries[v.cursor].Place
}

// jump goes to the nearest entry that a query finds before the selected one,
// or after it.
func (v *logs) jump(q api.LogQuery, back bool) tea.Cmd {
	here := v.here()
	switch {
	case back:
		q.Before = here
	case here.IsZero():
		return nil
	default:
		q.From, q.Oldest = here, true
	}
	return v.find(q)
}

// count counts what a query finds, and shows how far that has come.
func (v *logs) count(q api.LogQuery, of func(*logs) *tally) tea.Cmd {
	of(v).running = true
	client, turn, ctx := v.Client(), v.turn, v.counting
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
	return v.answer(func() tea.Msg {
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
	})
}

func (v *logs) tallied(msg tallyMsg) tea.Cmd {
	if msg.turn == v.turn {
		*msg.of(v) = tally{n: msg.n, known: true, running: !msg.done}
	}
	return v.answer(msg.next)
}

func (v *logs) searched() api.LogQuery {
	q := v.query()
	q.Events = false
	q.Patterns = append(q.Patterns, v.search)
	return q
}

func (v *logs) countMatches() tea.Cmd {
	if v.search == "" {
		return nil
	}
	return v.count(v.searched(), func(v *logs) *tally { return &v.matches })
}

// countPosition counts the matches up to the selected entry.
func (v *logs) countPosition() tea.Cmd {
	if v.search == "" || v.here().IsZero() {
		return nil
	}
	q := v.searched()
	q.Before = v.here()
	q.Before.Offset++
	return v.count(q, func(v *logs) *tally { return &v.position })
}

// countLater counts what has come since the view was paused, at most once in
// half a second.
func (v *logs) countLater() tea.Cmd {
	if v.following || v.later.running || time.Since(v.lastTold) < 500*time.Millisecond {
		return nil
	}
	v.lastTold = time.Now()
	q := v.query()
	q.From = journal.At(v.upTo)
	return v.count(q, func(v *logs) *tally { return &v.later })
}
