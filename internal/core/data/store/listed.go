package store

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"
)

// Listed is an item of a collection that is short enough to be read as a whole.
type Listed struct {
	Key string
	// Values are in the order of the columns.
	Values []string
	// Whole is shown as JSON; nil: nothing is.
	Whole any
	// Says is what it is called; "" is its first value.
	Says string
	// Fixed says why it can't be changed; "": it can.
	Fixed string
}

// Lists are the collections of a source that are read as a whole: it returns the names of the
// values of one, and its items; a *GoneError if there is no such collection.
type Lists func(ctx context.Context, collection string) (columns []string, all []Listed, err error)

// Items returns a page of a list.
func (l Lists) Items(ctx context.Context, q Query) (Page, error) {
	columns, all, err := l(ctx, q.Collection)
	return PageOf(q, columns, all), err
}

// Item returns one of a list whole.
func (l Lists) Item(ctx context.Context, collection, key string) (Item, error) {
	columns, all, err := l(ctx, collection)
	if err != nil {
		return Item{}, err
	}
	return ItemOf(collection, key, columns, all)
}

// PageOf returns the page of a collection that was read as a whole, in which a text is looked
// for anywhere in the items. Columns are the names of the values.
func PageOf(q Query, columns []string, all []Listed) Page {
	began := time.Now()
	p := Page{Rows: []Row{}, Order: "as they are listed"}
	for i, n := range columns {
		p.Columns = append(p.Columns, Column{Name: n, Type: "text", Is: Text, Key: i == 0})
	}
	if q.Where != "" {
		p.Where = "with " + q.Where
		all = slices.DeleteFunc(slices.Clone(all), func(r Listed) bool {
			return !strings.Contains(strings.ToLower(strings.Join(r.Values, " ")), strings.ToLower(q.Where))
		})
	}
	q.Limit = min(max(q.Limit, 1), PageLimit)
	from, to := 0, min(q.Limit, len(all))
	place := slices.IndexFunc(all, func(r Listed) bool { return q.After != "" && KeyFor(r.Key) == q.After })
	switch {
	case place >= 0 && q.Back:
		from, to = max(0, place-q.Limit), place
	case place >= 0:
		from, to = place+1, min(place+1+q.Limit, len(all))
	case q.Back:
		from, to = max(0, len(all)-q.Limit), len(all)
	}
	for _, r := range all[from:to] {
		row := Row{Key: KeyFor(r.Key)}
		for _, v := range r.Values {
			row.Values = append(row.Values, TextOf(v, max(q.Wide, ListWidth)))
		}
		p.Rows = append(p.Rows, row)
	}
	p.More = to < len(all)
	if q.Back {
		p.More = from > 0
	}
	if n := len(p.Rows); n > 0 {
		p.Prev, p.Next = p.Rows[0].Key, p.Rows[n-1].Key
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p
}

// ItemOf returns one item of such a collection whole. Its error is a *GoneError if it isn't
// there.
func ItemOf(collection, key string, columns []string, all []Listed) (Item, error) {
	item := Item{Collection: collection, Key: key}
	for _, r := range all {
		if KeyFor(r.Key) != key {
			continue
		}
		item.Says, item.Fixed = cmp.Or(r.Says, r.Values[0]), r.Fixed
		for i, v := range r.Values {
			item.Fields = append(item.Fields, Field{Column: Column{Name: columns[i], Type: "text", Is: Text}, Value: TextOf(v, ValueLimit)})
		}
		if r.Whole != nil {
			if b, err := json.MarshalIndent(r.Whole, "", "  "); err == nil {
				item.Fields = append(item.Fields, Field{Column: Column{Name: "whole", Type: "JSON", Is: JSON}, Value: Value{Text: string(b), Is: JSON}})
			}
		}
		return item, nil
	}
	return item, &GoneError{What: "this item"}
}
