// Package sqlstore looks into databases that are asked in SQL. What differs from
// server to server is behind Server; everything else is here: pages by key,
// values that are cut in the server, reading that can't write, and changes of one
// row that are shown before they are made.
package sqlstore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
)

// Conn is a connection to a database. It is used by one goroutine at a time. When
// a context ends, the server is told to leave the statement.
type Conn interface {
	// Run carries out one statement, and calls row with the values of each of its
	// rows as the server writes them, nil for NULL, until that returns false. The
	// values are good only until it returns. Columns is called before the first.
	Run(ctx context.Context, statement string, columns func([]store.Column), row func([][]byte) bool) (affected int64, err error)
	Close() error
}

// Typed is implemented by connections to servers whose values have types of their
// own, whatever the column's is.
type Typed interface {
	// Forms tells of what sort the values of the row are that is read now; binary
	// ones are hexadecimal digits.
	Forms() []store.Form
}

// Server is what differs from server to server.
type Server interface {
	// Connect opens a connection to one of the databases.
	Connect(ctx context.Context, database string) (Conn, error)
	// Databases are the names of the databases; the first is that in which
	// questions are asked.
	Databases() []string
	// Tables lists the tables and views of a database.
	Tables(ctx context.Context, c Conn, database string) ([]store.Collection, error)
	// Table describes one. Its error is a *store.GoneError if there is none.
	Table(ctx context.Context, c Conn, database string, name []string) (*Table, error)
	Dialect() *Dialect
}

// Dialect is how a server's SQL is written.
type Dialect struct {
	// Script is how statements are told from each other.
	Script sqlscript.Dialect
	// Reads are the first words of statements that only read.
	Reads []string
	// Read and Write begin a transaction that can't write, and one that can; Free
	// lets statements outside of transactions write.
	Read, Write, Free []string
	// Quote quotes a name, Literal a text.
	Quote, Literal func(string) string
	// Cut is an expression for the first n characters of a column: of a binary one,
	// for the hexadecimal digits of its first n/2 bytes.
	Cut func(c *Column, n int) string
	// Key is an expression for a key column as text, and KeyLiteral is how such a
	// text is compared with the column.
	Key        func(c *Column) string
	KeyLiteral func(c *Column, text string) string
	// Contains is a condition that a column contains a text, large letters or not.
	Contains func(c *Column, text string) string
	// NoRowValues says that (a, b) > (1, 2) is not carried out by an index.
	NoRowValues bool
	// Unordered says that rows come in the order of a key that is no column.
	Unordered bool
	// Overriding stands in an INSERT that gives values which the server would make.
	Overriding string
	// Backslashes says that one in a text stands for what follows it.
	Backslashes bool
	// Default is what inserts a row of defaults only: "DEFAULT VALUES".
	Default string
	// Truncate is a statement that empties a table.
	Truncate func(table string) string
	// Hex is a binary value.
	Hex func(digits string) string
	// Wrote reports whether a refusal is for a statement that writes.
	Wrote func(error) bool
}

// Table is what is known of a table.
type Table struct {
	Columns []Column
	// Key are the columns that tell a row from all others, in the order of their
	// index; none: nothing does.
	Key []*Column
	// Hidden says that the key is the server's own, and no column.
	Hidden bool
	// View says that it is a view.
	View    bool
	Foreign []Foreign
	Indexes []Index
}

// Index is an index of a table.
type Index struct {
	Name   string
	Unique bool
	On     string // its columns, or expressions, in the words of the server
}

// Column is a column of a table.
type Column struct {
	store.Column
	// Long says that its values can be long, so that they are to be cut.
	Long bool
	// Made says that the server itself makes its values, Computed that it makes
	// them of others, so that none can be given.
	Made, Computed bool
	// Default is an expression for the value that it has without one, "" for none.
	Default string
}

// Foreign is a foreign key.
type Foreign struct {
	Columns []string
	To      []string // the table: database, schema, name, as in addresses
	Targets []string // its columns
}

// Named returns a column by its name, nil if there is none.
func (t *Table) Named(name string) *Column {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// Source looks into a database. It is a store.Source, a store.Asker and a
// store.Actor.
type Source struct {
	server Server

	slots chan struct{}
	mu    sync.Mutex
	idle  map[string]Conn // by database
	shut  bool
}

// connections is how many a source has at most.
const connections = 2

// New returns a source.
func New(s Server) *Source {
	return &Source{server: s, slots: make(chan struct{}, connections), idle: map[string]Conn{}}
}

// Close ends the connections that are not used now; the others end after that.
func (s *Source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shut = true
	var errs []error
	for _, c := range s.idle {
		errs = append(errs, c.Close())
	}
	clear(s.idle)
	return errors.Join(errs...)
}

// with lends a connection to a database. One that failed is not used again.
func (s *Source) with(ctx context.Context, database string, do func(Conn) error) error {
	return s.lend(ctx, database, true, do)
}

// lend is with; without again, the connection is not used again.
func (s *Source) lend(ctx context.Context, database string, again bool, do func(Conn) error) error {
	select {
	case s.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-s.slots }()
	s.mu.Lock()
	c := s.idle[database]
	delete(s.idle, database)
	if old, ok := c.(interface{ Stale() bool }); ok && old.Stale() {
		_ = c.Close()
		c = nil
	}
	if c == nil && len(s.idle) >= connections {
		for name, other := range s.idle { // another database's
			delete(s.idle, name)
			_ = other.Close()
			break
		}
	}
	s.mu.Unlock()
	if c == nil {
		var err error
		if c, err = s.server.Connect(ctx, database); err != nil {
			return err
		}
	}
	err := do(c)
	s.mu.Lock()
	defer s.mu.Unlock()
	if !again || s.shut || s.idle[database] != nil || err != nil && !answered(err) {
		_ = c.Close()
		return err
	}
	s.idle[database] = c
	return err
}

// answered reports whether the connection is as good as before.
func answered(err error) bool {
	var refused *store.AnswerError
	var gone *store.GoneError
	var writes *store.WritesError
	var fixed *store.FixedError
	return errors.As(err, &refused) || errors.As(err, &gone) || errors.As(err, &writes) || errors.As(err, &fixed)
}

// during carries something out in a transaction, which ends as it should.
func (s *Source) during(ctx context.Context, c Conn, begin []string, do func() error) error {
	for _, statement := range begin {
		if err := exec(ctx, c, statement); err != nil {
			return err
		}
	}
	err := do()
	end := "COMMIT"
	if err != nil {
		end = "ROLLBACK"
	}
	// Whoever asked may be gone, and the connection is used again.
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if endErr := exec(ending, c, end); endErr != nil && err == nil {
		err = endErr
	}
	return err
}

func exec(ctx context.Context, c Conn, statement string) error {
	_, err := c.Run(ctx, statement, nil, nil)
	return err
}

// Rows returns the rows of a statement as texts, NULL as "".
func Rows(ctx context.Context, c Conn, statement string) ([][]string, error) {
	var out [][]string
	_, err := c.Run(ctx, statement, nil, func(values [][]byte) bool {
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = string(v)
		}
		out = append(out, row)
		return true
	})
	return out, err
}

// lookLimit is how long a look may take.
const lookLimit = 30 * time.Second

// read lends a connection for reading.
func (s *Source) read(ctx context.Context, database string, do func(context.Context, Conn) error) error {
	ctx, cancel := context.WithTimeoutCause(ctx, lookLimit, fmt.Errorf("the server did not answer within %v; the question was taken back", lookLimit))
	defer cancel()
	err := s.with(ctx, database, func(c Conn) error {
		return s.during(ctx, c, s.server.Dialect().Read, func() error { return do(ctx, c) })
	})
	if cause := context.Cause(ctx); err != nil && cause != nil && ctx.Err() == context.DeadlineExceeded {
		return cause
	}
	return err
}

// Collections lists the tables and views.
func (s *Source) Collections(ctx context.Context) ([]store.Collection, error) {
	var out []store.Collection
	for _, database := range s.server.Databases() {
		err := s.read(ctx, database, func(ctx context.Context, c Conn) error {
			all, err := s.server.Tables(ctx, c, database)
			for i := range all {
				if strings.HasSuffix(all[i].Is, "table") {
					all[i].Can = []string{store.Change, store.Insert, store.Delete, store.Clear}
				}
			}
			out = append(out, all...)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// place finds the database and the name in it of an address. What is left out at
// its beginning is found, if there is only one.
func (s *Source) place(ctx context.Context, address string) (database string, name []string, err error) {
	parts, err := store.Split(address)
	if err != nil {
		return "", nil, err
	}
	all := s.server.Databases()
	if len(parts) > 1 && slices.Contains(all, parts[0]) {
		return parts[0], parts[1:], nil
	}
	// As the server itself finds a name that is not the whole one.
	err = s.read(ctx, all[0], func(ctx context.Context, c Conn) error {
		_, err := s.server.Table(ctx, c, all[0], parts)
		return err
	})
	var gone *store.GoneError
	if !errors.As(err, &gone) {
		return all[0], parts, err
	}
	collections, err := s.Collections(ctx)
	if err != nil {
		return "", nil, err
	}
	var found []string
	for _, c := range collections {
		p, err := store.Split(c.Name)
		if err == nil && len(p) >= len(parts) && slices.Equal(p[len(p)-len(parts):], parts) {
			found = append(found, c.Name)
		}
	}
	switch len(found) {
	case 0:
		return "", nil, &store.GoneError{What: "a table " + address}
	case 1:
		if parts, err = store.Split(found[0]); err != nil {
			return "", nil, err
		}
		if len(parts) == 1 {
			return all[0], parts, nil
		}
		return parts[0], parts[1:], nil
	}
	return "", nil, fmt.Errorf("%s: there are several: %s", address, strings.Join(found, ", "))
}

// qualified is a table's name as a statement has it.
func (s *Source) qualified(name []string) string {
	d := s.server.Dialect()
	out := make([]string, len(name))
	for i, n := range name {
		out[i] = d.Quote(n)
	}
	return strings.Join(out, ".")
}

// table describes a table that is looked at.
type table struct {
	*Table
	database string
	name     []string // in the database
	sql      string
}

// look lends a connection with the description of a table.
func (s *Source) look(ctx context.Context, address string, do func(context.Context, Conn, *table) error) error {
	database, name, err := s.place(ctx, address)
	if err != nil {
		return err
	}
	return s.read(ctx, database, func(ctx context.Context, c Conn) error {
		t, err := s.server.Table(ctx, c, database, name)
		if err != nil {
			return err
		}
		return do(ctx, c, &table{Table: t, database: database, name: name, sql: s.qualified(name)})
	})
}

// Strings reads a JSON list of texts.
func Strings(list string) []string {
	var out []string
	_ = json.Unmarshal([]byte(list), &out)
	return out
}

// Lead marks the columns that lead to other tables.
func (t *Table) Lead() {
	for _, f := range t.Foreign {
		if len(f.Columns) > 0 {
			if c := t.Named(f.Columns[0]); c != nil {
				c.Leads = store.Join(f.To...)
			}
		}
	}
}
