package engine

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"

	"go.mongodb.org/mongo-driver/v2/bson"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"neighbour/internal/emulator/documents/value"
)

// file is the medium that writes to the file itself, in one transaction of it.
type file struct {
	e      *Engine
	by     *Transaction // that is being committed
	now    map[Space]*collection
	latest int64
	depth  int
}

// during carries something out in a transaction of the file.
func (f *file) during(do func() error) error {
	if err := f.exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	err := do()
	if err == nil {
		err = f.exec("COMMIT")
	}
	if err != nil {
		_ = f.exec("ROLLBACK") // which an error may have done already, such as that of a full disk
		return told(err)
	}
	f.e.mu.Lock()
	defer f.e.mu.Unlock()
	if f.now != nil {
		f.e.named = f.now
	}
	if f.latest > f.e.latest {
		f.e.latest = f.latest
		close(f.e.news)
		f.e.news = make(chan struct{})
	}
	return nil
}

// told says of a full disk what it means.
func told(err error) error {
	if e := (*sqlite.Error)(nil); errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_FULL {
		return &FullError{err}
	}
	return err
}

// FullError says that the disk is full, so that nothing of a write was done.
type FullError struct{ Err error }

func (e *FullError) Error() string { return "the disk is full; nothing was written" }

// Unwrap returns what the file's library said.
func (e *FullError) Unwrap() error { return e.Err }

// exec executes a statement. What was begun is ended, whoever still waits for it.
func (f *file) exec(text string, args ...any) error {
	s, err := f.e.statement(text)
	if err == nil {
		_, err = s.Exec(args...)
	}
	return err
}

func (f *file) find(s Space) *collection {
	if f.now != nil {
		return f.now[s]
	}
	return f.e.find(s)
}

// set notes that a collection is, or isn't, there from the commit on.
func (f *file) set(s Space, c *collection) {
	if f.now == nil {
		f.e.mu.RLock()
		f.now = maps.Clone(f.e.named)
		f.e.mu.RUnlock()
	}
	if c == nil {
		delete(f.now, s)
		return
	}
	f.now[s] = c
}

func (f *file) collection(_ context.Context, s Space, create bool) (*collection, error) {
	if c := f.find(s); c != nil || !create {
		return c, nil
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	insert, err := f.e.statement("INSERT INTO collections (database, name) VALUES (?, ?)")
	if err != nil {
		return nil, err
	}
	made, err := insert.Exec(s.Database, s.Collection)
	if err != nil {
		return nil, err
	}
	c := &collection{space: s, indexes: []*Index{primary()}}
	if c.id, err = made.LastInsertId(); err != nil {
		return nil, err
	}
	f.set(s, c)
	return c, f.exec(fmt.Sprintf("CREATE TABLE %s (record INTEGER PRIMARY KEY, key BLOB NOT NULL UNIQUE, document BLOB NOT NULL)", c.table()))
}

// QueryContext reads what was written, committed or not.
func (f *file) QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	s, err := f.e.statement(text)
	if err != nil {
		return nil, err
	}
	return s.QueryContext(ctx, args...)
}

func (f *file) each(ctx context.Context, s *scan, do func(stored) (bool, error)) error {
	return s.each(ctx, f, &position{}, do)
}

func (f *file) read(_ context.Context, c *collection, record int64) (d bson.Raw, err error) {
	s, err := f.e.statement("SELECT document FROM " + c.table() + " WHERE record = ?")
	if err != nil {
		return nil, err
	}
	return d, s.QueryRow(record).Scan((*[]byte)(&d))
}

func (f *file) whole(_ context.Context, do func() error) error {
	f.depth++
	defer func() { f.depth-- }()
	name := fmt.Sprintf("s%d", f.depth)
	if err := f.exec("SAVEPOINT " + name); err != nil {
		return err
	}
	latest := f.latest
	if err := do(); err != nil {
		f.latest = latest
		_ = f.exec("ROLLBACK TO " + name) // the same
		_ = f.exec("RELEASE " + name)
		return err
	}
	return f.exec("RELEASE " + name)
}

func (f *file) put(_ context.Context, c *collection, was stored, now bson.Raw, id bson.RawValue, replaced bool) error {
	key := value.Key(id)
	if by := f.claimed(place{c.id, string(key)}); by != nil && by != f.by {
		return errClaimed{by}
	}
	changes, err := f.indexed(c, was, now)
	if err != nil {
		return err
	}
	switch {
	case was.document == nil:
		if was.record, err = f.insert(c, key, now); err != nil {
			return err
		}
		if was.record == 0 {
			return c.indexes[0].duplicate(c.space, now)
		}
	case now == nil:
		err = f.exec("DELETE FROM "+c.table()+" WHERE record = ?", was.record)
	default:
		err = f.exec("UPDATE "+c.table()+" SET document = ? WHERE record = ?", []byte(now), was.record)
	}
	if err != nil {
		return err
	}
	for _, change := range changes {
		if err := f.index(change, was.record); err != nil {
			return err
		}
	}
	return f.note(c, key, changeOf(was.document, now, id, replaced))
}

// insert returns the number of a document that was added, 0 if one with its _id is there.
func (f *file) insert(c *collection, key []byte, d bson.Raw) (int64, error) {
	s, err := f.e.statement("INSERT INTO " + c.table() + " (key, document) VALUES (?, ?) ON CONFLICT DO NOTHING")
	if err != nil {
		return 0, err
	}
	done, err := s.Exec(key, []byte(d))
	if err != nil {
		return 0, err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return 0, err
	}
	return done.LastInsertId()
}

func (f *file) claimed(p place) *Transaction {
	f.e.mu.RLock()
	defer f.e.mu.RUnlock()
	return f.e.claims[p]
}

// indexing is what changes in an index.
type indexing struct {
	index       *Index
	gone, added [][]byte
	several     bool
}

// indexed returns what changes in the indexes with a document, or that one forbids it.
func (f *file) indexed(c *collection, was stored, now bson.Raw) (all []indexing, err error) {
	for _, i := range c.indexes[1:] {
		change := indexing{index: i}
		if was.document != nil {
			if change.gone, _, err = i.keys(was.document); err != nil {
				return nil, err
			}
		}
		if now != nil {
			if change.added, change.several, err = i.keys(now); err != nil {
				return nil, err
			}
			change.gone, change.added = without(change.gone, change.added), without(change.added, change.gone)
		}
		if len(change.gone)+len(change.added) == 0 {
			continue
		}
		if i.unique {
			for _, key := range change.added {
				var other int64
				s, err := f.e.statement("SELECT record FROM " + i.table() + " WHERE key = ? AND record <> ? LIMIT 1")
				if err != nil {
					return nil, err
				}
				if err := s.QueryRow(key, was.record).Scan(&other); err == nil {
					return nil, i.duplicate(c.space, now)
				} else if !errors.Is(err, sql.ErrNoRows) {
					return nil, err
				}
			}
		}
		all = append(all, change)
	}
	return all, nil
}

// without returns the keys that are not among others, both being in their order.
func without(keys, others [][]byte) (out [][]byte) {
	for _, k := range keys {
		for len(others) > 0 && bytes.Compare(others[0], k) < 0 {
			others = others[1:]
		}
		if len(others) == 0 || !bytes.Equal(others[0], k) {
			out = append(out, k)
		}
	}
	return out
}

// index changes an index for a document.
func (f *file) index(change indexing, record int64) error {
	for _, key := range change.gone {
		if err := f.exec("DELETE FROM "+change.index.table()+" WHERE key = ? AND record = ?", key, record); err != nil {
			return err
		}
	}
	for _, key := range change.added {
		if err := f.exec("INSERT INTO "+change.index.table()+" VALUES (?, ?)", key, record); err != nil {
			return err
		}
	}
	if !change.several || change.index.multikey.Load() {
		return nil
	}
	// Before others see the keys, so that nobody relies on there being one.
	change.index.multikey.Store(true)
	return f.exec("UPDATE indexes SET multikey = 1 WHERE id = ?", change.index.id)
}
