// Package engine keeps documents in an SQLite file: databases, collections, and the
// documents of these in the order in which they came. What it has answered to is in
// the file, whenever the process is killed.
package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"
	_ "modernc.org/sqlite" // the driver

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Engine is an open file. Its methods may be called at the same time.
type Engine struct {
	db *sql.DB

	write sync.Mutex // one writes at a time
	mu    sync.RWMutex
	named map[Space]*collection
}

// Space names a collection.
type Space struct{ Database, Collection string }

func (s Space) String() string { return s.Database + "." + s.Collection }

// collection is one that is there. Its documents are in a table of their own.
type collection struct {
	space Space
	id    int64
}

func (c *collection) table() string { return fmt.Sprintf("c_%d", c.id) }

// Open opens a file, and makes it if it isn't there.
func Open(file string) (*Engine, error) {
	db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(file)+"?_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(10000)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	e := &Engine{db: db, named: map[Space]*collection{}}
	if err := e.begin(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, err), db.Close())
	}
	return e, nil
}

func (e *Engine) begin() error {
	if _, err := e.db.Exec("CREATE TABLE IF NOT EXISTS collections (id INTEGER PRIMARY KEY AUTOINCREMENT, database TEXT NOT NULL, name TEXT NOT NULL, UNIQUE (database, name))"); err != nil {
		return err
	}
	rows, err := e.db.Query("SELECT id, database, name FROM collections")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		c := &collection{}
		if err := rows.Scan(&c.id, &c.space.Database, &c.space.Collection); err != nil {
			return err
		}
		e.named[c.space] = c
	}
	return rows.Err()
}

// Close closes the file.
func (e *Engine) Close() error { return e.db.Close() }

func (e *Engine) find(s Space) *collection {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.named[s]
}

// Databases lists the databases that have a collection.
func (e *Engine) Databases() []string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var out []string
	seen := map[string]bool{}
	for s := range e.named {
		if !seen[s.Database] {
			seen[s.Database] = true
			out = append(out, s.Database)
		}
	}
	return out
}

// Collections lists the collections of a database.
func (e *Engine) Collections(database string) []string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var out []string
	for s := range e.named {
		if s.Database == database {
			out = append(out, s.Collection)
		}
	}
	return out
}

// check refuses names that the protocol doesn't have.
func (s Space) check() error {
	switch {
	case s.Database == "" || strings.ContainsAny(s.Database, "/\\. \"$\x00") || len(s.Database) > 63:
		return &fault.Error{Code: 73, Name: "InvalidNamespace", Message: fmt.Sprintf("Invalid database name: '%s'", s.Database)}
	case s.Collection == "" || strings.ContainsAny(s.Collection, "$\x00") || strings.HasPrefix(s.Collection, "system.") || strings.HasPrefix(s.Collection, "."), len(s.String()) > 255:
		return &fault.Error{Code: 73, Name: "InvalidNamespace", Message: fmt.Sprintf("Invalid collection name: %s", s)}
	}
	return nil
}

// Create makes a collection, unless it is there, and reports whether it has.
func (e *Engine) Create(ctx context.Context, s Space) (bool, error) {
	e.write.Lock()
	defer e.write.Unlock()
	if e.find(s) != nil {
		return false, nil
	}
	_, err := e.make(ctx, s)
	return err == nil, err
}

// make makes a collection, if it isn't there. Whoever calls it has the lock for
// writing.
func (e *Engine) make(ctx context.Context, s Space) (*collection, error) {
	if c := e.find(s); c != nil {
		return c, nil
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	c := &collection{space: s}
	err := e.during(ctx, func(tx *sql.Tx) error {
		made, err := tx.ExecContext(ctx, "INSERT INTO collections (database, name) VALUES (?, ?)", s.Database, s.Collection)
		if err != nil {
			return err
		}
		if c.id, err = made.LastInsertId(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, fmt.Sprintf("CREATE TABLE %s (record INTEGER PRIMARY KEY AUTOINCREMENT, key BLOB NOT NULL UNIQUE, document BLOB NOT NULL)", c.table()))
		return err
	})
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	e.named[s] = c
	e.mu.Unlock()
	return c, nil
}

// Drop takes a collection away, and reports whether it was there.
func (e *Engine) Drop(ctx context.Context, s Space) (bool, error) {
	e.write.Lock()
	defer e.write.Unlock()
	c := e.find(s)
	if c == nil {
		return false, nil
	}
	err := e.during(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM collections WHERE id = ?", c.id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DROP TABLE "+c.table())
		return err
	})
	if err == nil {
		e.mu.Lock()
		delete(e.named, s)
		e.mu.Unlock()
	}
	return err == nil, err
}

// during carries something out in a transaction.
func (e *Engine) during(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := e.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// WriteError says why one of several writes was not made.
type WriteError struct {
	Index int // of the write
	Err   *fault.Error
	// Pattern and Value are the key of the index that has the value already.
	Pattern, Value bson.Raw
}

// duplicate says that a document with this _id is there.
func duplicate(s Space, id bson.RawValue) *WriteError {
	pattern, _ := bson.Marshal(bson.D{{Key: "_id", Value: 1}})
	v, _ := bson.Marshal(bson.D{{Key: "_id", Value: id}})
	return &WriteError{Err: &fault.Error{Code: 11000, Name: "DuplicateKey", Message: fmt.Sprintf("E11000 duplicate key error collection: %s index: _id_ dup key: { _id: %s }", s, value.String(id))}, Pattern: pattern, Value: v}
}

// withID returns a document whose first member is its _id, which is made up if it has
// none.
func withID(d bson.Raw) (bson.Raw, bson.RawValue, *fault.Error) {
	if err := value.Validate(d); err != nil {
		return nil, bson.RawValue{}, fault.BadValue("the document is not valid: %v", err)
	}
	id, ok := value.Member(d, "_id")
	if !ok {
		t, b, err := bson.MarshalValue(bson.NewObjectID())
		if err != nil {
			return nil, id, fault.BadValue("%v", err)
		}
		id = bson.RawValue{Type: t, Value: b}
	}
	switch id.Type {
	case bson.TypeArray, bson.TypeRegex, bson.TypeUndefined:
		return nil, id, &fault.Error{Code: 53, Name: "InvalidIdField", Message: fmt.Sprintf("The '_id' value cannot be of type %s", value.Name(id.Type))}
	}
	first := ""
	value.Elements(d, func(name string, _ bson.RawValue) bool { first = name; return false })
	if first == "_id" {
		return d, id, nil
	}
	out := bson.D{{Key: "_id", Value: id}}
	value.Elements(d, func(name string, v bson.RawValue) bool {
		if name != "_id" {
			out = append(out, bson.E{Key: name, Value: v})
		}
		return true
	})
	b, err := bson.Marshal(out)
	if err != nil {
		return nil, id, fault.BadValue("%v", err)
	}
	if len(b) > value.MostBytes {
		return nil, id, fault.BadValue("the document is larger than %d bytes", value.MostBytes)
	}
	return b, id, nil
}

// Insert adds documents, and makes their collection if it isn't there. If they are
// ordered, the first that can't be added is the last that is tried.
func (e *Engine) Insert(ctx context.Context, s Space, documents []bson.Raw, ordered bool) (inserted int, refused []WriteError, err error) {
	e.write.Lock()
	defer e.write.Unlock()
	c, err := e.make(ctx, s)
	if err != nil {
		return 0, nil, err
	}
	err = e.during(ctx, func(tx *sql.Tx) error {
		add, err := tx.PrepareContext(ctx, "INSERT INTO "+c.table()+" (key, document) VALUES (?, ?) ON CONFLICT DO NOTHING")
		if err != nil {
			return err
		}
		defer add.Close()
		for i, d := range documents {
			d, id, problem := withID(d)
			if problem == nil {
				done, err := add.ExecContext(ctx, value.Key(id), []byte(d))
				if err != nil {
					return err
				}
				if n, err := done.RowsAffected(); err != nil {
					return err
				} else if n == 1 {
					inserted++
					continue
				}
				w := duplicate(s, id)
				w.Index = i
				refused = append(refused, *w)
			} else {
				refused = append(refused, WriteError{Index: i, Err: problem})
			}
			if ordered {
				return nil
			}
		}
		return nil
	})
	if err != nil {
		return 0, nil, err
	}
	return inserted, refused, nil
}
