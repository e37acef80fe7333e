package engine

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Find asks for documents.
type Find struct {
	Filter bson.Raw
	// Sort are paths with 1 or -1; without them, documents come in the order in which
	// they were inserted, or in which an index has them.
	Sort        bson.Raw
	Skip, Limit int64 // 0: no limit
	// Hint names the only index that may be used, "" for any, $natural for none.
	Hint      string
	Collation *value.Collation
	Variables map[string]bson.RawValue
}

// Cursor gives documents, some at a time. It is used by one goroutine at a time.
type Cursor struct {
	engine *Engine
	scan   scan
	by     query.Sort
	skip   int64
	left   int64 // -1: all
	at     position
	sorted []int64    // records
	whole  []bson.Raw // documents that were read at once
	sorts  bool
	done   bool
}

// scan goes through the documents of a collection that a filter means.
type scan struct {
	in       *collection
	filter   *query.Filter
	plan     plan
	examined Examined
}

// Examined is how much was looked at to find something.
type Examined struct{ Keys, Documents int }

// position is how far a scan has come.
type position struct {
	span   int
	key    []byte
	record int64
	seen   map[int64]bool // records that several keys lead to
}

// querier is the file, or a transaction in it.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Open opens a cursor. Its errors are of the type *fault.Error, or the file's.
func (e *Engine) Open(ctx context.Context, s Space, f Find) (*Cursor, error) {
	c, err := e.prepare(s, f)
	if err != nil || c.scan.in == nil || len(c.by) == 0 || c.scan.plan.ordered {
		return c, err
	}
	c.sorts = true
	return c, c.sort(ctx)
}

// prepare reads what is asked for, and plans it.
func (e *Engine) prepare(s Space, f Find) (*Cursor, error) {
	c := &Cursor{engine: e, skip: f.Skip, left: f.Limit}
	if f.Limit == 0 {
		c.left = -1
	}
	var err error
	if c.scan, c.by, err = e.scanOf(e.find(s), f); err != nil {
		return nil, err
	}
	return c, nil
}

func (e *Engine) scanOf(c *collection, f Find) (s scan, by query.Sort, err error) {
	s.in = c
	options := query.Options{Collation: f.Collation, Variables: f.Variables}
	if c != nil {
		options.Text = e.TextPaths(c.space)
	}
	if s.filter, err = query.ParseWith(f.Filter, options); err != nil {
		return s, nil, err
	}
	if by, err = query.ParseSort(f.Sort); err != nil || c == nil {
		return s, by, err
	}
	s.plan, err = choose(c, s.filter, by, f.Collation, f.Hint)
	return s, by, err
}

// stored is a document with the number under which it is kept.
type stored struct {
	record   int64
	document bson.Raw
}

// each calls do with the documents that come after a position, which it moves on, until
// that returns false.
func (s *scan) each(ctx context.Context, in querier, at *position, do func(stored) (bool, error)) error {
	if s.plan.index == nil {
		_, err := s.rows(ctx, in, at, "SELECT NULL, record, document FROM "+s.in.table()+" WHERE record > ? ORDER BY record", []any{at.record}, do)
		return err
	}
	for ; at.span < len(s.plan.spans); at.span, at.key = at.span+1, nil {
		text, args := s.statement(s.plan.spans[at.span], at)
		if stopped, err := s.rows(ctx, in, at, text, args, do); err != nil || stopped {
			return err
		}
	}
	return nil
}

// rows calls do with the documents of a statement's rows, and reports whether it was
// stopped by that.
func (s *scan) rows(ctx context.Context, in querier, at *position, text string, args []any, do func(stored) (bool, error)) (stopped bool, err error) {
	rows, err := in.QueryContext(ctx, text, args...)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for rows.Next() {
		var d stored
		if err := rows.Scan(&at.key, &d.record, (*[]byte)(&d.document)); err != nil {
			return false, err
		}
		at.record = d.record
		if s.plan.index != nil {
			s.examined.Keys++
			if s.plan.index.multikey.Load() {
				if at.seen[d.record] {
					continue
				}
				if at.seen == nil {
					at.seen = map[int64]bool{}
				}
				at.seen[d.record] = true
			}
		}
		s.examined.Documents++
		if !s.filter.Matches(d.document) {
			if err := s.filter.Err(); err != nil {
				return false, err
			}
			continue
		}
		if more, err := do(d); err != nil || !more {
			return true, err
		}
	}
	return false, rows.Err()
}

// statement is the one that reads a span of an index from a position on.
func (s *scan) statement(of span, at *position) (text string, args []any) {
	i := s.plan.index
	key, record := "i.key", "i.record"
	from := i.table() + " i JOIN " + s.in.table() + " d ON d.record = i.record"
	if i.id == 0 {
		key, record, from = "d.key", "d.record", s.in.table()+" d"
	}
	order, beyond := " ORDER BY "+key+", "+record, " > "
	if s.plan.back {
		order, beyond = " ORDER BY "+key+" DESC, "+record+" DESC", " < "
	}
	text = "SELECT " + key + ", " + record + ", d.document FROM " + from + " WHERE 1"
	if of.from != nil {
		text, args = text+" AND "+key+" >= ?", append(args, of.from)
	}
	if of.to != nil {
		text, args = text+" AND "+key+" < ?", append(args, of.to)
	}
	if at.key != nil {
		text, args = text+" AND ("+key+", "+record+")"+beyond+"(?, ?)", append(args, at.key, at.record)
	}
	return text + order, args
}

// sort finds the order of all documents that are wanted.
func (c *Cursor) sort(ctx context.Context) error {
	type one struct {
		key    []byte
		record int64
	}
	var all []one
	size := 0
	err := c.scan.each(ctx, &c.engine.reads, &position{}, func(d stored) (bool, error) {
		all = append(all, one{c.by.Key(d.document, c.collation()), d.record})
		if size += len(all[len(all)-1].key) + 48; size > mostSorted {
			return false, &fault.Error{Code: 292, Name: "QueryExceededMemoryLimitNoDiskUseAllowed", Message: "the sort needs more than 512 MB; an index of what is sorted by needs none"}
		}
		return true, nil
	})
	slices.SortStableFunc(all, func(a, b one) int { return bytes.Compare(a.key, b.key) })
	for _, o := range all {
		c.sorted = append(c.sorted, o.record)
	}
	return c.engine.gone(c.scan.in, err)
}

// mostSorted is how many bytes a sort may take.
const mostSorted = 512 << 20

func (c *Cursor) collation() *value.Collation { return c.scan.filter.Collation() }

// Next returns the documents that follow, at most n and about so many bytes of them,
// and whether there may be more.
func (c *Cursor) Next(ctx context.Context, n, size int) (documents []bson.Raw, more bool, err error) {
	if c.scan.in == nil || c.done {
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
	switch {
	case c.whole != nil:
		full := false
		for !full && len(c.whole) > 0 {
			full = !take(stored{document: c.whole[0]})
			c.whole = c.whole[1:]
		}
		more = full && c.left != 0 && len(c.whole) > 0
	case c.sorts:
		more, err = c.nextSorted(ctx, take)
	default:
		full := false
		err = c.scan.each(ctx, &c.engine.reads, &c.at, func(d stored) (bool, error) {
			full = !take(d)
			return !full, nil
		})
		more = full && c.left != 0
	}
	c.done = err != nil || !more
	return documents, more, c.engine.gone(c.scan.in, err)
}

func (c *Cursor) nextSorted(ctx context.Context, take func(stored) bool) (more bool, err error) {
	read, err := c.engine.db.PrepareContext(ctx, "SELECT document FROM "+c.scan.in.table()+" WHERE record = ?")
	if err != nil {
		return false, err
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
		case !c.scan.filter.Matches(d.document): // changed meanwhile
			continue
		}
		if !take(d) {
			return c.left != 0 && len(c.sorted) > 0, nil
		}
	}
	return false, nil
}

// Explanation says how documents are found, in the words of the protocol.
type Explanation struct {
	Index     string // "" for none
	Pattern   bson.RawValue
	Multikey  bool
	Unique    bool
	Back      bool
	Sorts     bool // they are sorted after they were found
	Documents int  // that were found
	Examined  Examined
}

// Explain carries a find out, and says how.
func (e *Engine) Explain(ctx context.Context, s Space, f Find) (x Explanation, err error) {
	c, err := e.prepare(s, f)
	if err != nil || c.scan.in == nil {
		return x, err
	}
	if x.Sorts = len(c.by) > 0 && !c.scan.plan.ordered; x.Sorts {
		if err := c.sort(ctx); err != nil {
			return x, err
		}
		c.sorts = true
	}
	examined := c.scan.examined
	for more := true; more; {
		var all []bson.Raw
		if all, more, err = c.Next(ctx, 1000, 1<<24); err != nil {
			return x, err
		}
		x.Documents += len(all)
	}
	if x.Examined = c.scan.examined; x.Sorts {
		x.Examined = examined
	}
	if i := c.scan.plan.index; i != nil {
		x.Index, x.Multikey, x.Unique, x.Back = i.Name, i.multikey.Load(), i.unique, c.scan.plan.back
		x.Pattern, _ = value.Member(i.Spec, "key")
	}
	return x, nil
}
