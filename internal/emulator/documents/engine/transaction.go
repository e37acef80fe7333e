package engine

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Transaction sees the documents as they were at its beginning, and what it has written
// itself. Others see that when it is committed. It has a claim on each document that it
// has written, so that no two change the same: the second is refused, and a write outside
// of transactions waits. It is the medium of its writers, and is used by one goroutine at
// a time.
type Transaction struct {
	e      *Engine
	conn   *sql.Conn
	since  int64 // the last change that it sees
	order  []place
	wrote  map[place]*written
	ended  chan struct{}
	finish sync.Once
}

// written is a document that a transaction has written.
type written struct {
	in       *collection
	was      stored // without a document: there was none
	now      bson.Raw
	id       bson.RawValue
	replaced bool
}

// Begin begins a transaction. While there are as many as there may be, it waits for one to end.
func (e *Engine) Begin(ctx context.Context) (*Transaction, error) {
	select {
	case e.transactions <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	conn, err := e.db.Conn(ctx)
	if err != nil {
		<-e.transactions
		return nil, err
	}
	t := &Transaction{e: e, conn: conn, wrote: map[place]*written{}, ended: make(chan struct{})}
	if _, err = conn.ExecContext(ctx, "BEGIN"); err == nil {
		err = conn.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM changes").Scan(&t.since)
	}
	if err != nil {
		t.end()
		return nil, err
	}
	return t, nil
}

// end gives back what the transaction has.
func (t *Transaction) end() {
	t.finish.Do(func() {
		_, _ = t.conn.ExecContext(context.Background(), "ROLLBACK") // of a transaction that reads
		_ = t.conn.Close()
		<-t.e.transactions
		t.e.mu.Lock()
		for p, by := range t.e.claims {
			if by == t {
				delete(t.e.claims, p)
			}
		}
		t.e.mu.Unlock()
		close(t.ended)
	})
}

// Abort ends the transaction without any of its writes.
func (t *Transaction) Abort() { t.end() }

// conflict says that another has changed what the transaction would.
func conflict() error {
	return &fault.Error{Code: 112, Name: "WriteConflict", Message: "Caused by :: Write conflict during plan execution and yielding is disabled. :: Please retry your operation or multi-document transaction."}
}

// Commit makes all that the transaction has written seen, and ends it.
func (t *Transaction) Commit(ctx context.Context) error {
	defer t.end()
	if err := t.e.lock(ctx); err != nil {
		return err
	}
	defer func() { t.e.writing <- struct{}{} }()
	f := &file{e: t.e, by: t, latest: t.e.latest}
	err := f.during(func() error {
		for _, p := range t.order {
			w := t.wrote[p]
			c := f.find(w.in.space)
			if c == nil || c.id != w.in.id {
				return conflict()
			}
			if w.was.document == nil && w.now == nil {
				continue
			}
			if err := f.put(ctx, c, w.was, w.now, w.id, w.replaced); err != nil {
				return err
			}
		}
		return nil
	})
	var taken *WriteError
	if errors.As(err, &taken) { // by a document that came after the transaction's beginning
		return conflict()
	}
	return err
}

// Writer returns what writes in the transaction.
func (t *Transaction) Writer() *Writer { return &Writer{t.e, t} }

func (t *Transaction) collection(ctx context.Context, s Space, create bool) (*collection, error) {
	if c := t.e.find(s); c != nil || !create {
		return c, nil
	}
	// A collection without documents is seen by others at once.
	if _, err := t.e.Create(ctx, s); err != nil {
		return nil, err
	}
	return t.e.find(s), nil
}

// QueryContext reads the documents as they were.
func (t *Transaction) QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	return t.conn.QueryContext(ctx, text, args...)
}

// each goes through the documents as they were that the transaction hasn't written, and
// then through those that it has.
func (t *Transaction) each(ctx context.Context, s *scan, do func(stored) (bool, error)) error {
	stopped := false
	var there int
	err := t.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema WHERE name = ?", s.in.table()).Scan(&there)
	if err != nil {
		return err
	}
	if s.plan.index != nil && s.plan.index.id != 0 && there > 0 {
		var indexed int
		if err := t.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema WHERE name = ?", s.plan.index.table()).Scan(&indexed); err != nil {
			return err
		}
		if indexed == 0 { // the index is younger than the transaction
			s.plan = plan{}
		}
	}
	if there > 0 {
		err = s.each(ctx, t, &position{}, func(d stored) (bool, error) {
			id, _ := value.Member(d.document, "_id")
			if t.wrote[place{s.in.id, string(value.Key(id))}] != nil {
				return true, nil
			}
			more, err := do(d)
			stopped = !more
			return more, err
		})
	}
	if err != nil || stopped {
		return err
	}
	for _, p := range slices.Clone(t.order) {
		w := t.wrote[p]
		if p.collection != s.in.id || w.now == nil || !s.filter.Matches(w.now) {
			if err := s.filter.Err(); err != nil {
				return err
			}
			continue
		}
		if more, err := do(stored{w.was.record, w.now}); err != nil || !more {
			return err
		}
	}
	return nil
}

func (t *Transaction) read(ctx context.Context, c *collection, record int64) (d bson.Raw, err error) {
	for _, w := range t.wrote {
		if record != 0 && w.in.id == c.id && w.was.record == record {
			return w.now, nil
		}
	}
	return d, t.conn.QueryRowContext(ctx, "SELECT document FROM "+c.table()+" WHERE record = ?", record).Scan((*[]byte)(&d))
}

// whole needs nothing: a write that fails is the end of a transaction.
func (t *Transaction) whole(_ context.Context, do func() error) error { return do() }

func (t *Transaction) put(ctx context.Context, c *collection, was stored, now bson.Raw, id bson.RawValue, replaced bool) error {
	p := place{c.id, string(value.Key(id))}
	before := t.wrote[p]
	if before == nil {
		if err := t.claim(ctx, p); err != nil {
			return err
		}
	}
	if was.document == nil {
		if taken, err := t.taken(ctx, c, p); err != nil || taken {
			if err == nil {
				err = c.indexes[0].duplicate(c.space, now)
			}
			return err
		}
	}
	if now != nil {
		if err := t.unique(ctx, c, p, now); err != nil {
			return err
		}
	}
	if before == nil {
		before = &written{in: c, was: was, id: id}
		t.wrote[p] = before
		t.order = append(t.order, p)
	}
	before.now, before.replaced = now, before.replaced || replaced
	return nil
}

// claim makes sure that no other changes a document before the transaction's end, and that
// none has since its beginning.
func (t *Transaction) claim(ctx context.Context, p place) error {
	// Whoever writes is waited for: what it changes is seen below.
	if err := t.e.lock(ctx); err != nil {
		return err
	}
	defer func() { t.e.writing <- struct{}{} }()
	var changed int
	if err := t.e.db.QueryRowContext(ctx, "SELECT count(*) FROM changes WHERE number > ? AND collection = ? AND key = ?", t.since, p.collection, []byte(p.key)).Scan(&changed); err != nil {
		return err
	}
	t.e.mu.Lock()
	defer t.e.mu.Unlock()
	select {
	case <-t.ended:
		return &fault.Error{Code: 251, Name: "NoSuchTransaction", Message: "the transaction has been aborted"}
	default:
	}
	if by := t.e.claims[p]; changed > 0 || by != nil && by != t {
		return conflict()
	}
	t.e.claims[p] = t
	return nil
}

// taken reports whether the transaction sees a document with an _id.
func (t *Transaction) taken(ctx context.Context, c *collection, p place) (bool, error) {
	if w := t.wrote[p]; w != nil {
		return w.now != nil, nil
	}
	all, err := query.Parse(nil)
	if err != nil {
		return false, err
	}
	found := false
	s := scan{in: c, filter: all, plan: plan{index: c.indexes[0], spans: []span{{[]byte(p.key), after([]byte(p.key))}}}}
	err = t.each(ctx, &s, func(d stored) (bool, error) {
		id, _ := value.Member(d.document, "_id")
		found = found || string(value.Key(id)) == p.key
		return !found, nil
	})
	return found, err
}

// unique makes sure that no index forbids a document, as far as the transaction sees.
func (t *Transaction) unique(ctx context.Context, c *collection, p place, now bson.Raw) error {
	for _, i := range c.indexes[1:] {
		keys, _, err := i.keys(now)
		if err != nil {
			return err
		}
		if !i.unique {
			continue
		}
		for _, key := range keys {
			other := false
			all, err := query.Parse(nil)
			if err != nil {
				return err
			}
			s := scan{in: c, filter: all, plan: plan{index: i, spans: []span{{key, after(key)}}}}
			err = t.each(ctx, &s, func(d stored) (bool, error) {
				id, _ := value.Member(d.document, "_id")
				if string(value.Key(id)) == p.key {
					return true, nil
				}
				theirs, _, err := i.keys(d.document)
				other = slices.ContainsFunc(theirs, func(k []byte) bool { return string(k) == string(key) })
				return !other, err
			})
			if err != nil {
				return err
			}
			if other {
				return i.duplicate(c.space, now)
			}
		}
	}
	return nil
}

// Open opens a cursor of what the transaction sees. All is read at once.
func (t *Transaction) Open(ctx context.Context, s Space, f Find) (*Cursor, error) {
	c, err := t.e.prepare(s, f)
	if err != nil || c.scan.in == nil {
		return c, err
	}
	c.scan.plan.ordered, c.scan.plan.back = false, false
	c.whole = []bson.Raw{}
	size := 0
	err = t.each(ctx, &c.scan, func(d stored) (bool, error) {
		c.whole = append(c.whole, d.document)
		if size += len(d.document); size > mostSorted {
			return false, fault.BadValue("a find in a transaction holds at most 512 MB")
		}
		return len(c.by) > 0 || c.left < 0 || int64(len(c.whole)) < c.left+c.skip, nil
	})
	if len(c.by) > 0 {
		slices.SortStableFunc(c.whole, func(a, b bson.Raw) int {
			return slices.Compare(c.by.Key(a, f.Collation), c.by.Key(b, f.Collation))
		})
	}
	return c, err
}
