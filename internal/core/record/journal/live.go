package journal

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"neighbour/internal/core/machine/lazyregexp"
)

// Tail gives write the entries of a folder's logs that come from now on, until
// the context ends, one at a time. If the query has a From, those after that
// place which are there already come first; each is given once. N, Before and
// Oldest mean nothing.
func Tail(ctx context.Context, dir string, q Query, write func(Entry)) error {
	var mu sync.Mutex // no new entry until those that are there were given
	given := map[string]int64{}
	tell := func(e Entry) {
		if last, ok := given[e.Place.Log]; (!ok || e.Place.Offset > last) && q.Matches(e) {
			write(e)
		}
	}
	mu.Lock()
	f, err := Follow(dir, q.Services, func(service string, lines []Line) {
		mu.Lock()
		defer mu.Unlock()
		for _, e := range Entries(service, lines) {
			tell(e)
		}
	})
	if err != nil {
		return err
	}
	if q.Events {
		f.Events(func(e Entry) {
			mu.Lock()
			defer mu.Unlock()
			tell(e)
		})
	}
	var done sync.WaitGroup
	done.Go(func() { f.Run(ctx) })
	if !q.From.IsZero() {
		err = readOn(ctx, dir, q, func(e Entry) {
			write(e)
			given[e.Place.Log] = e.Place.Offset
		})
	}
	mu.Unlock()
	done.Wait()
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// readOn gives what there is after the query's From.
func readOn(ctx context.Context, dir string, q Query, write func(Entry)) error {
	q.Before, q.Oldest, q.N = Place{}, true, 1000
	for {
		a, err := Read(ctx, dir, q)
		if err != nil {
			return err
		}
		for _, e := range a.Entries {
			if e.Place != q.From {
				write(e)
				q.From = e.Place
			}
		}
		if !a.More {
			return nil
		}
	}
}

// Entries makes entries of lines of a service that came at the same time.
func Entries(service string, lines []Line) []Entry {
	if len(lines) == 0 {
		return nil
	}
	var b bytes.Buffer
	for _, l := range lines {
		b.WriteString(l.Text)
		b.WriteByte('\n')
	}
	c := chunk{data: b.Bytes(), times: stamps{{Millis: lines[0].At.UnixMilli()}}}
	var out []Entry
	for _, s := range c.spans() {
		e := c.entry(service, s)
		e.Place.Offset = lines[bytes.Count(c.data[:s.from], []byte{'\n'})].Offset
		out = append(out, e)
	}
	return out
}

// Matches reports whether an entry is one that the filter asks for.
func (f *Filter) Matches(e Entry) bool {
	wanted := slices.Contains(f.Services, e.Service) || e.Event != "" && e.Service == ""
	return wanted && (f.Event == "" || f.Event == e.Event) && e.Level >= f.Level && !slices.ContainsFunc(f.Patterns, func(p *Pattern) bool { return !p.Matches([]byte(e.Text)) })
}

// Events makes the follower deliver what the keeper notes from now on, too.
func (f *Follower) Events(emit func(Entry)) {
	path := eventsPath(f.dir)
	file := &followed{service: Events, offset: Size(path)}
	f.files[path] = file
	lines := f.emit
	f.emit = func(service string, all []Line) {
		if service != Events {
			lines(service, all)
			return
		}
		for _, e := range Entries(Events, all) {
			emit(e)
		}
	}
}

// clockForm is a time of day: 14:05 or 14:05:30.
var clockForm = lazyregexp.New(`^\d{1,2}:\d{2}(:\d{2})?$`)

// ParseTime reads a time that somebody wrote: how long ago ("10m", "1h30m"), a
// time of day, which is the latest one not after now, or a date with a time.
func ParseTime(s string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(s); err == nil {
		return now.Add(-d.Abs()), nil
	}
	if clockForm.MatchString(s) {
		layout := "15:04"
		if len(s) > 5 {
			layout = "15:04:05"
		}
		if t, err := time.Parse(layout, s); err == nil {
			at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
			if at.After(now) {
				at = at.AddDate(0, 0, -1)
			}
			return at, nil
		}
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, s, now.Location()); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write how long ago, as 10m, or a time of day, as 14:05, or a date, as 2026-11-23 14:05", s)
}
