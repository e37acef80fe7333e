package engine

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Find asks for documents.
type Find struct {
	Filter bson.Raw
	// Sort are paths with 1 or -1; without them, documents come in the order in which
	// they were inserted.
	Sort        bson.Raw
	Skip, Limit int64 // 0: no limit
}

// Cursor gives documents, some at a time. It is used by one goroutine at a time.
type Cursor struct {
	engine *Engine
	in     *collection // nil: there is none
	filter *query.Filter
	key    []byte // of the _id that is wanted; nil: any
	skip   int64
	left   int64 // -1: all
	after  int64 // the record that was read last
	sorted []int64
	sorts  bool
	done   bool
}

// Open opens a cursor. Its errors are of the type *fault.Error, or the file's.
func (e *Engine) Open(ctx context.Context, s Space, f Find) (*Cursor, error) {
	c := &Cursor{engine: e, in: e.find(s), skip: f.Skip, left: f.Limit}
	if f.Limit == 0 {
		c.left = -1
	}
	var err error
	if c.filter, err = query.Parse(f.Filter); err != nil {
		return nil, err
	}
	c.key = idOf(f.Filter)
	by, err := readSort(f.Sort)
	if err != nil || c.in == nil || len(by) == 0 {
		return c, err
	}
	c.sorts = true
	return c, c.sort(ctx, by)
}

// idOf returns the key of the _id that a filter wants, nil if it wants no certain one.
func idOf(filter bson.Raw) []byte {
	if len(filter) == 0 {
		return nil
	}
	v, ok := value.Member(filter, "_id")
	if ok && v.Type == bson.TypeEmbeddedDocument {
		if eq, is := value.Member(v.Value, "$eq"); is {
			v = eq
		} else {
			value.Elements(v.Value, func(name string, _ bson.RawValue) bool {
				ok = !strings.HasPrefix(name, "$")
				return false
			})
		}
	}
	if !ok || v.Type == bson.TypeRegex || v.Type == bson.TypeNull || v.Type == bson.TypeUndefined {
		return nil
	}
	return value.Key(v)
}

// stored is a document with the number under which it is kept.
type stored struct {
	record   int64
	document bson.Raw
}

// scan calls each with the documents that come after a record, until that returns
// false.
func (c *Cursor) scan(ctx context.Context, after int64, each func(stored) (bool, error)) error {
	text, args := "SELECT record, document FROM "+c.in.table()+" WHERE record > ? ORDER BY record", []any{after}
	if c.key != nil {
		text, args = "SELECT record, document FROM "+c.in.table()+" WHERE key = ? AND record > ?", []any{c.key, after}
	}
	rows, err := c.engine.db.QueryContext(ctx, text, args...)
	if err != nil {
		return c.gone(err)
	}
	defer rows.Close()
	for rows.Next() {
		var d stored
		if err := rows.Scan(&d.record, (*[]byte)(&d.document)); err != nil {
			return err
		}
		if !c.filter.Matches(d.document) {
			continue
		}
		if more, err := each(d); err != nil || !more {
			return err
		}
	}
	return rows.Err()
}

// gone explains an error that a collection's end is the reason of.
func (c *Cursor) gone(err error) error {
	if c.engine.find(c.in.space) != c.in {
		return &fault.Error{Code: 175, Name: "QueryPlanKilled", Message: "the collection " + c.in.space.String() + " was dropped"}
	}
	return err
}

// sort finds the order of all documents that are wanted.
func (c *Cursor) sort(ctx context.Context, by []sortBy) error {
	type one struct {
		key    []byte
		record int64
	}
	var all []one
	err := c.scan(ctx, 0, func(d stored) (bool, error) {
		all = append(all, one{sortKey(d.document, by), d.record})
		return true, nil
	})
	slices.SortStableFunc(all, func(a, b one) int { return bytes.Compare(a.key, b.key) })
	for _, o := range all {
		c.sorted = append(c.sorted, o.record)
	}
	return err
}

// Next returns the documents that follow, at most n and about so many bytes of them,
// and whether there may be more.
func (c *Cursor) Next(ctx context.Context, n, size int) (documents []bson.Raw, more bool, err error) {
	if c.in == nil || c.done {
		return nil, false, nil
	}
	take := func(d stored) bool {
		if c.skip > 0 {
			c.skip--
			return true
		}
		documents = append(documents, d.document)
		size -= len(d.document)
		if c.left > 0 {
			c.left--
		}
		return c.left != 0 && len(documents) < n && size > 0
	}
	if n < 1 {
		return nil, true, nil
	}
	if c.sorts {
		more, err = c.nextSorted(ctx, take)
	} else {
		full := false
		err = c.scan(ctx, c.after, func(d stored) (bool, error) {
			c.after = d.record
			full = !take(d)
			return !full, nil
		})
		more = full && c.left != 0
	}
	c.done = err != nil || !more
	return documents, more, err
}

func (c *Cursor) nextSorted(ctx context.Context, take func(stored) bool) (more bool, err error) {
	read, err := c.engine.db.PrepareContext(ctx, "SELECT document FROM "+c.in.table()+" WHERE record = ?")
	if err != nil {
		return false, c.gone(err)
	}
	defer read.Close()
	for len(c.sorted) > 0 {
		d := stored{record: c.sorted[0]}
		c.sorted = c.sorted[1:]
		err := read.QueryRowContext(ctx, d.record).Scan((*[]byte)(&d.document))
		switch {
		case errors.Is(err, sql.ErrNoRows): // deleted meanwhile
			continue
		case err != nil:
			return false, err
		case !c.filter.Matches(d.document): // changed meanwhile
			continue
		}
		if !take(d) {
			return c.left != 0 && len(c.sorted) > 0, nil
		}
	}
	return false, nil
}

// sortBy is a path by which documents are sorted.
type sortBy struct {
	path []string
	down bool
}

func readSort(sort bson.Raw) ([]sortBy, error) {
	if len(sort) == 0 {
		return nil, nil
	}
	if err := value.Validate(sort); err != nil {
		return nil, fault.FailedToParse("the sort is no valid document: %v", err)
	}
	var out []sortBy
	var problem error
	value.Elements(sort, func(name string, v bson.RawValue) bool {
		n, ok := value.Integer(v)
		switch {
		case v.Type == bson.TypeEmbeddedDocument:
			problem = fault.NotImplemented("a sort by %s is not here", value.String(v))
		case !ok || n != 1 && n != -1:
			problem = fault.BadValue("$sort key ordering must be 1 (for ascending) or -1 (for descending)")
		case name == "" || strings.HasPrefix(name, ".") || strings.HasSuffix(name, ".") || strings.Contains(name, ".."):
			problem = fault.BadValue("FieldPath '%s' has an empty part", name)
		case strings.HasPrefix(name, "$"):
			problem = fault.NotImplemented("a sort by %s is not here", name)
		}
		out = append(out, sortBy{strings.Split(name, "."), n < 0})
		return problem == nil
	})
	return out, problem
}

// sortKey is a key in whose order documents are sorted.
func sortKey(d bson.Raw, by []sortBy) []byte {
	var out []byte
	for _, b := range by {
		key := value.Key(query.Extreme(d, b.path, b.down))
		if b.down {
			for i := range key {
				key[i] = ^key[i]
			}
		}
		out = append(out, key...)
	}
	return out
}
