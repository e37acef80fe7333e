package data

import (
	"context"
	"errors"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/tui/view"
)

// rows returns all items that are there.
func (v *screen) rows() []store.Row {
	if v.answer != nil {
		return v.answer.Rows
	}
	var out []store.Row
	for _, p := range v.pages {
		out = append(out, p.Rows...)
	}
	return out
}

func (v *screen) columns() []store.Column {
	switch {
	case v.answer != nil:
		return v.answer.Columns
	case len(v.pages) > 0:
		return v.pages[0].Columns
	}
	return nil
}

// took takes a page.
func (v *screen) took(msg pageMsg) tea.Cmd {
	if msg.number != v.number {
		return nil
	}
	v.quiet()
	if msg.err != nil {
		if msg.refresh && errors.Is(msg.err, context.Canceled) {
			return nil
		}
		v.problem = msg.err.Error()
		v.refresh = time.Now().Add(slowest)
		return nil
	}
	v.problem = ""
	p := page{msg.page, msg.query.After, msg.query.Back}
	switch {
	case msg.refresh && len(v.pages) > 0:
		return v.renew(p)
	case msg.add && msg.query.Back:
		v.pages = append([]page{p}, v.pages...)
		v.place.row += len(p.Rows)
		v.place.top += len(p.Rows)
		v.pages = v.pages[:min(len(v.pages), keptPages)]
	case msg.add:
		v.pages = append(v.pages, p)
		if n := len(v.pages); n > keptPages && v.pages[1].Prev != "" {
			gone := len(v.pages[0].Rows)
			v.pages = v.pages[1:]
			v.place.row, v.place.top = v.place.row-gone, max(0, v.place.top-gone)
		}
	default:
		v.pages = []page{p}
		v.place.row, v.place.top = 0, 0
		if msg.query.Back {
			v.place.row = max(0, len(p.Rows)-1)
		}
	}
	return v.read()
}

// renew puts a page that was asked for again in the place of what it was, and marks
// what is new in it.
func (v *screen) renew(p page) tea.Cmd {
	at := slices.IndexFunc(v.pages, func(o page) bool { return o.after == p.after && o.back == p.back })
	if at < 0 {
		return nil
	}
	was := map[string]store.Row{}
	for _, r := range v.pages[at].Rows {
		was[r.Key] = r
	}
	changed := len(p.Rows) != len(v.pages[at].Rows)
	for _, r := range p.Rows {
		if o, known := was[r.Key]; r.Key != "" && (!known || !slices.Equal(o.Values, r.Values)) {
			v.marks[r.Key] = time.Now().Add(markFor)
			changed = true
		}
	}
	key := v.rowKey()
	v.pages[at] = p
	if i := slices.IndexFunc(v.rows(), func(r store.Row) bool { return r.Key == key }); key != "" && i >= 0 {
		v.place.top = max(0, v.place.top+i-v.place.row)
		v.place.row = i
	}
	v.place.row = min(v.place.row, max(0, len(v.rows())-1))
	if changed {
		v.rhythm = quickest
	} else {
		v.rhythm = min(slowest, v.rhythm*3/2)
	}
	v.refresh = time.Now().Add(v.rhythm)
	if changed {
		return v.read()
	}
	return nil
}

// key returns the key of the chosen item, "" if there is none: the one that was gone
// into, or else that of the row with the mark. What is shown whole and what is acted
// on follow from it, so that they can't be another.
func (v *screen) key() string {
	if v.level == item && v.answer == nil {
		return v.place.item
	}
	return v.rowKey()
}

// rowKey returns the key of the row with the mark.
func (v *screen) rowKey() string {
	if rows := v.rows(); v.place.row < len(rows) && v.answer == nil {
		return rows[v.place.row].Key
	}
	return ""
}

// whole returns the chosen item whole, its zero value until it has come.
func (v *screen) whole() store.Item {
	if key := v.key(); key != "" && v.got.Key == key && v.got.Collection == v.place.collection {
		return v.got
	}
	return store.Item{}
}

// read has the chosen item come whole.
func (v *screen) read() tea.Cmd {
	key := v.key()
	if key == "" {
		return nil
	}
	service, collection := v.place.service, v.place.collection
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		select {
		case <-time.After(passing):
		case <-ctx.Done():
		}
		it, err := c.Item(ctx, service, collection, key)
		return itemMsg{service, collection, key, it, err}
	})
}

func (v *screen) tookItem(msg itemMsg) {
	if msg.service != v.place.service || msg.collection != v.place.collection || msg.key != v.key() {
		return
	}
	if msg.err != nil {
		msg.item = store.Item{Notes: []string{msg.err.Error()}}
	}
	v.got = msg.item
	v.got.Collection, v.got.Key = msg.collection, msg.key
	v.place.field = min(v.place.field, max(0, len(v.got.Fields)-1))
}
