// Package engine keeps documents in an SQLite file: databases, collections, and the
// documents of these in the order in which they came. What it has answered to is in
// the file, whenever the process is killed.
package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	_ "modernc.org/sqlite" // the driver

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Engine is an open file. Its methods may be called at the same time.
type Engine struct {
	db     *sql.DB
	writer *sql.Conn // of whoever has writing
	made   map[string]*sql.Stmt
	reads  statements

	writing chan struct{} // has one element, which whoever writes takes
	mu      sync.RWMutex
	named   map[Space]*collection
	claims  map[place]*Transaction
	// transactions holds a value for each that is open.
	transactions chan struct{}
	latest       int64            // change
	news         chan struct{}    // is closed when there is a later one
	numbers      map[string]int64 // of the last write of each session; whoever writes has it
	partly       bool             // the file knows of sessions that numbers doesn't
	expired      time.Time        // when what is too old was forgotten last
}

// Space names a collection.
type Space struct{ Database, Collection string }

func (s Space) String() string { return s.Database + "." + s.Collection }

// collection is one that is there. Its documents are in a table of their own. What it
// says does not change: another takes its place.
type collection struct {
	space   Space
	id      int64
	indexes []*Index
}

func (c *collection) table() string { return fmt.Sprintf("c_%d", c.id) }

// place is where a document is: its collection, and the key of its _id.
type place struct {
	collection int64
	key        string
}

const schema = `
CREATE TABLE IF NOT EXISTS collections (id INTEGER PRIMARY KEY AUTOINCREMENT, database TEXT NOT NULL, name TEXT NOT NULL, UNIQUE (database, name));
CREATE TABLE IF NOT EXISTS indexes (id INTEGER PRIMARY KEY AUTOINCREMENT, collection INTEGER NOT NULL, spec BLOB NOT NULL, multikey INTEGER NOT NULL DEFAULT 0);
CREATE TABLE IF NOT EXISTS changes (number INTEGER PRIMARY KEY, at INTEGER NOT NULL, collection INTEGER NOT NULL, key BLOB, change BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS answers (session BLOB PRIMARY KEY, number INTEGER NOT NULL, at INTEGER NOT NULL, answer BLOB NOT NULL) WITHOUT ROWID;
`

// Open opens a file, and makes it if it isn't there.
func Open(file string) (*Engine, error) {
	db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(file)+"?_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	e := &Engine{db: db, made: map[string]*sql.Stmt{}, writing: make(chan struct{}, 1), named: map[Space]*collection{}, numbers: map[string]int64{}, claims: map[place]*Transaction{}, transactions: make(chan struct{}, maxTransactions), news: make(chan struct{})}
	e.writing <- struct{}{}
	if err := e.begin(context.Background()); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, err), db.Close())
	}
	return e, nil
}

// Each connection has a cache of its own. A transaction keeps its connection and may need another
// meanwhile, which therefore there always is.
const (
	maxReaders      = 8
	maxTransactions = 64
)

func (e *Engine) begin(ctx context.Context) (err error) {
	if _, err := e.db.ExecContext(ctx, schema); err != nil {
		return err
	}
	if err := e.db.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM changes").Scan(&e.latest); err != nil {
		return err
	}
	if err := e.load(ctx); err != nil {
		return err
	}
	if _, err := e.db.ExecContext(ctx, "DELETE FROM answers WHERE at < ?", time.Now().Add(-sessionLife).UnixMilli()); err != nil {
		return err
	}
	e.expired = time.Now()
	if err := e.loadNumbers(ctx); err != nil {
		return err
	}
	e.reads.db = e.db
	e.db.SetMaxIdleConns(maxReaders) // which have their statements
	e.db.SetMaxOpenConns(1 + maxReaders + maxTransactions)
	e.writer, err = e.db.Conn(ctx)
	return err
}

// load reads which collections and indexes there are.
func (e *Engine) load(ctx context.Context) error {
	rows, err := e.db.QueryContext(ctx, "SELECT id, database, name FROM collections")
	if err != nil {
		return err
	}
	defer rows.Close()
	byID := map[int64]*collection{}
	for rows.Next() {
		c := &collection{indexes: []*Index{primary()}}
		if err := rows.Scan(&c.id, &c.space.Database, &c.space.Collection); err != nil {
			return err
		}
		e.named[c.space] = c
		byID[c.id] = c
	}
	if err := rows.Err(); err != nil {
		return err
	}
	indexes, err := e.db.QueryContext(ctx, "SELECT id, collection, spec, multikey FROM indexes ORDER BY id")
	if err != nil {
		return err
	}
	defer indexes.Close()
	for indexes.Next() {
		var id, of int64
		var spec []byte
		var multikey bool
		if err := indexes.Scan(&id, &of, &spec, &multikey); err != nil {
			return err
		}
		i, err := ParseIndex(spec)
		if err != nil || byID[of] == nil {
			return errors.Join(fmt.Errorf("the index %d can't be read", id), err)
		}
		i.id = id
		i.multikey.Store(multikey)
		byID[of].indexes = append(byID[of].indexes, i)
	}
	return indexes.Err()
}

func (e *Engine) loadNumbers(ctx context.Context) error {
	rows, err := e.db.QueryContext(ctx, "SELECT session, number FROM answers")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var session []byte
		var number int64
		if err := rows.Scan(&session, &number); err != nil {
			return err
		}
		e.numbers[string(session)] = number
	}
	return rows.Err()
}

// statements are those of readers, which are made once.
type statements struct {
	db  *sql.DB
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

const mostStatements = 200

func (s *statements) get(ctx context.Context, text string) (*sql.Stmt, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if made := s.all[text]; made != nil {
		return made, nil
	}
	if len(s.all) >= mostStatements {
		s.close()
	}
	made, err := s.db.PrepareContext(ctx, text)
	if err == nil {
		if s.all == nil {
			s.all = map[string]*sql.Stmt{}
		}
		s.all[text] = made
	}
	return made, err
}

// close forgets all statements; those in use come to their end. The mutex is locked.
func (s *statements) close() {
	for _, made := range s.all {
		_ = made.Close()
	}
	s.all = nil
}

func (s *statements) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.close()
}

// QueryContext reads what is committed.
func (s *statements) QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	for range 3 {
		made, err := s.get(ctx, text)
		if err != nil {
			return nil, err
		}
		rows, err := made.QueryContext(ctx, args...)
		if err == nil || err.Error() != "sql: statement is closed" { // which another did meanwhile
			return rows, err
		}
	}
	return s.db.QueryContext(ctx, text, args...)
}

// Close closes the file.
func (e *Engine) Close() error {
	<-e.writing // whoever writes comes to an end
	defer func() { e.writing <- struct{}{} }()
	for _, s := range e.made {
		_ = s.Close()
	}
	e.made = map[string]*sql.Stmt{}
	e.reads.forget()
	if err := e.writer.Close(); err != nil && !errors.Is(err, sql.ErrConnDone) {
		return errors.Join(err, e.db.Close())
	}
	return e.db.Close()
}

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
	slices.Sort(out)
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
	slices.Sort(out)
	return out
}

// Count returns how many documents a collection has.
func (e *Engine) Count(ctx context.Context, s Space) (n int64, err error) {
	c := e.find(s)
	if c == nil {
		return 0, nil
	}
	err = e.db.QueryRowContext(ctx, "SELECT count(*) FROM "+c.table()).Scan(&n)
	return n, e.gone(c, err)
}

// Size returns how many bytes the documents of a collection have, 0 if it isn't there.
func (e *Engine) Size(ctx context.Context, s Space) (n int64, err error) {
	c := e.find(s)
	if c == nil {
		return 0, nil
	}
	err = e.db.QueryRowContext(ctx, "SELECT coalesce(sum(length(document)), 0) FROM "+c.table()).Scan(&n)
	return n, e.gone(c, err)
}

// gone explains an error that a collection's end is the reason of.
func (e *Engine) gone(c *collection, err error) error {
	if now := e.find(c.space); err != nil && (now == nil || now.id != c.id) {
		return &fault.Error{Code: 175, Name: "QueryPlanKilled", Message: "the collection " + c.space.String() + " was dropped"}
	}
	return err
}

// TextPaths returns the paths that a collection's index of texts has, nil without one.
func (e *Engine) TextPaths(s Space) [][]string {
	if c := e.find(s); c != nil {
		for _, i := range c.indexes {
			if i.text != nil {
				return i.text
			}
		}
	}
	return nil
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

// WriteError says why one of several writes was not made.
type WriteError struct {
	Index int // of the write
	Err   *fault.Error
	// Pattern and Value are the key of the index that has the value already.
	Pattern, Value bson.Raw
}

func (w *WriteError) Error() string { return w.Err.Message }

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
