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
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/sqlscript"
	"neighbour/internal/core/store"
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
	Indexes []string
}

// Column is a column of a table.
type Column struct {
	store.Column
	// Long says that its values can be long, so that they are to be cut.
	Long bool
	// Made says that the server itself makes its values.
	Made bool
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

// fixed says why a table's rows can't be changed, "" if they can.
func (t *table) fixed() string {
	switch {
	case t.View:
		return "a view; change the tables behind it"
	case t.Hidden || len(t.Key) == 0:
		return "without a primary key no row can be told from all others"
	}
	return ""
}

// widest is how many values a page has at most: tables with very many columns have
// fewer rows on a page.
const widest = 20_000

// Items returns a page of a table's rows.
func (s *Source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	began := time.Now()
	var p store.Page
	err := s.look(ctx, q.Collection, func(ctx context.Context, c Conn, t *table) (err error) {
		p, err = s.page(ctx, c, t, q)
		return err
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

func (s *Source) page(ctx context.Context, c Conn, t *table, q store.Query) (store.Page, error) {
	d := s.server.Dialect()
	p := store.Page{Fixed: t.fixed(), Rows: []store.Row{}}
	for _, col := range t.Columns {
		p.Columns = append(p.Columns, col.Column)
	}
	q.Limit = min(q.Limit, max(10, widest/max(1, len(t.Columns))))
	if len(t.Key) == 0 {
		if q.After != "" || q.Back {
			return p, &store.FixedError{Why: "there is no key to go on from"}
		}
	}
	var conditions []string
	if where, words, err := s.where(t, q.Where); err != nil {
		return p, err
	} else if where != "" {
		conditions, p.Where = append(conditions, where), words
	}
	if q.After != "" {
		after, err := s.after(t, q.After, q.Back)
		if err != nil {
			return p, err
		}
		conditions = append(conditions, after)
	}
	statement := "SELECT " + s.columns(t, q.Wide) + " FROM " + t.sql
	if len(conditions) > 0 {
		statement += " WHERE " + strings.Join(conditions, " AND ")
	}
	if len(t.Key) > 0 && !(t.Hidden && d.Unordered && !q.Back) {
		var order []string
		for _, k := range t.Key {
			by := k.Name
			if !t.Hidden { // the column, and not what is selected under its name
				by = t.sql + "." + d.Quote(by)
			}
			if q.Back {
				by += " DESC"
			}
			order = append(order, by)
		}
		statement += " ORDER BY " + strings.Join(order, ", ")
	}
	if !t.Hidden && len(t.Key) > 0 {
		names := make([]string, len(t.Key))
		for i, k := range t.Key {
			names[i] = k.Name
		}
		p.Order = "by " + strings.Join(names, ", ")
	}
	statement += fmt.Sprintf(" LIMIT %d", q.Limit+1)
	_, err := c.Run(ctx, statement, nil, func(values [][]byte) bool {
		if p.More = len(p.Rows) == q.Limit; !p.More {
			p.Rows = append(p.Rows, t.row(values, q.Wide))
		}
		return true
	})
	if q.Back {
		slices.Reverse(p.Rows)
	}
	if n := len(p.Rows); n > 0 {
		p.Next = p.Rows[n-1].Key
		if !(t.Hidden && d.Unordered) {
			p.Prev = p.Rows[0].Key
		}
	}
	return p, err
}

// columns are the expressions for a row: its key and its values.
func (s *Source) columns(t *table, wide int) string {
	d := s.server.Dialect()
	var out []string
	for _, k := range t.Key {
		if t.Hidden {
			out = append(out, k.Name)
		} else {
			out = append(out, d.Key(k))
		}
	}
	for i := range t.Columns {
		out = append(out, s.expression(&t.Columns[i], wide))
	}
	return strings.Join(out, ", ")
}

func (s *Source) expression(c *Column, wide int) string {
	d := s.server.Dialect()
	if c.Long {
		return d.Cut(c, wide+2) // a byte has two digits
	}
	return d.Quote(c.Name)
}

// row makes a row of what the server answers.
func (t *table) row(values [][]byte, wide int) store.Row {
	r := store.Row{}
	if n := len(t.Key); n > 0 {
		r.Key = keyOf(values[:n])
		values = values[n:]
	}
	for i, v := range values {
		r.Values = append(r.Values, value(v, t.Columns[i].Is, wide))
	}
	return r
}

func keyOf(values [][]byte) string {
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = string(v)
	}
	b, _ := json.Marshal(parts)
	return string(b)
}

// value makes a value of what the server answers.
func value(v []byte, is store.Form, wide int) store.Value {
	if v == nil {
		return store.NullValue
	}
	out := store.Value{Is: is}
	if len(v) > wide {
		n, runes := 0, 0
		for n < len(v) && runes < wide {
			_, size := utf8.DecodeRune(v[n:])
			n += size
			runes++
		}
		if n < len(v) {
			out.Cut = true
			v = v[:n]
		}
	}
	out.Text = string(v)
	return out
}

// keyParts reads a row's key.
func (t *table) keyParts(key string) ([]string, error) {
	var parts []string
	if json.Unmarshal([]byte(key), &parts) != nil || len(parts) != len(t.Key) {
		var names []string
		for _, k := range t.Key {
			names = append(names, k.Name)
		}
		return nil, fmt.Errorf("%s is not a key here: write a JSON list of %s", key, strings.Join(names, ", "))
	}
	return parts, nil
}

// after is the condition that a row comes after a key, or before it.
func (s *Source) after(t *table, key string, back bool) (string, error) {
	parts, err := t.keyParts(key)
	if err != nil {
		return "", err
	}
	d := s.server.Dialect()
	than := ">"
	if back {
		than = "<"
	}
	var names, literals []string
	for i, k := range t.Key {
		name := k.Name
		if !t.Hidden {
			name = d.Quote(name)
		}
		names, literals = append(names, name), append(literals, d.KeyLiteral(k, parts[i]))
	}
	if len(names) == 1 {
		return names[0] + " " + than + " " + literals[0], nil
	}
	if !d.NoRowValues {
		return "(" + strings.Join(names, ", ") + ") " + than + " (" + strings.Join(literals, ", ") + ")", nil
	}
	// a >= 1 AND (a > 1 OR (b >= 2 AND (b > 2 OR c > 3)))
	last := len(names) - 1
	text := names[last] + " " + than + " " + literals[last]
	for i := last - 1; i >= 0; i-- {
		text = fmt.Sprintf("(%s %s= %s AND (%s %s %s OR %s))", names[i], than, literals[i], names[i], than, literals[i], text)
	}
	return text, nil
}

// equal is the condition that a row is the one of a key.
func (s *Source) equal(t *table, key string) (string, error) {
	parts, err := t.keyParts(key)
	if err != nil {
		return "", err
	}
	d := s.server.Dialect()
	var out []string
	for i, k := range t.Key {
		name := k.Name
		if !t.Hidden {
			name = d.Quote(name)
		}
		out = append(out, name+" = "+d.KeyLiteral(k, parts[i]))
	}
	return strings.Join(out, " AND "), nil
}

// where makes a condition of what somebody wrote: words without anything that makes
// a condition of them are looked for in all columns.
func (s *Source) where(t *table, text string) (condition, words string, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", "", nil
	}
	if isCondition(text) {
		if _, err := s.server.Dialect().single("SELECT 1 WHERE (" + text + "\n)"); err != nil {
			return "", "", err
		}
		return "(" + text + "\n)", "where " + text, nil
	}
	d := s.server.Dialect()
	var any []string
	for i := range t.Columns {
		if c := &t.Columns[i]; c.Is != store.Binary {
			any = append(any, d.Contains(c, text))
		}
	}
	if len(any) == 0 {
		return "", "", &store.FixedError{Why: "no column here has text; write a condition"}
	}
	return "(" + strings.Join(any, " OR ") + ")", fmt.Sprintf("with %q in them", text), nil
}

// isCondition reports whether a text is meant as a condition of SQL: it compares
// something.
func isCondition(text string) bool {
	if strings.ContainsAny(text, "=<>()") {
		return true
	}
	for _, w := range strings.Fields(strings.ToLower(text)) {
		if w == "is" || w == "like" || w == "ilike" || w == "in" || w == "between" || w == "not" || w == "true" || w == "false" || w == "regexp" {
			return strings.Contains(text, " ") || w == "true" || w == "false"
		}
	}
	return false
}

// Item returns a row whole.
func (s *Source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	err := s.look(ctx, collection, func(ctx context.Context, c Conn, t *table) error {
		if len(t.Key) == 0 {
			return &store.FixedError{Why: t.fixed()}
		}
		same, err := s.equal(t, key)
		if err != nil {
			return err
		}
		found := false
		_, err = c.Run(ctx, "SELECT "+s.columns(t, store.ValueLimit)+" FROM "+t.sql+" WHERE "+same+" LIMIT 1", nil, func(values [][]byte) bool {
			found = true
			row := t.row(values, store.ValueLimit)
			for i, v := range row.Values {
				item.Fields = append(item.Fields, store.Field{Column: t.Columns[i].Column, Value: v})
			}
			return true
		})
		if err != nil {
			return err
		}
		if !found {
			return &store.GoneError{What: "the row " + key}
		}
		item.Fixed = t.fixed()
		if !t.Hidden {
			item.Says = keyFields(item.Fields)
		}
		s.follow(ctx, c, t, &item)
		return nil
	})
	return item, err
}

// keyFields are the values of the key, for people.
func keyFields(fields []store.Field) string {
	var out []string
	for _, f := range fields {
		if f.Column.Key {
			out = append(out, f.Value.Line(60))
		}
	}
	return strings.Join(out, ", ")
}

// follow finds what the fields of an item lead to. That a table can't be read is
// no reason not to show the item.
func (s *Source) follow(ctx context.Context, c Conn, t *table, item *store.Item) {
	for _, f := range t.Foreign {
		to := &store.Link{Collection: store.Join(f.To...)}
		var parts []string
		for i, name := range f.Columns {
			at := slices.IndexFunc(item.Fields, func(x store.Field) bool { return x.Column.Name == name })
			if at < 0 || item.Fields[at].Value.Is == store.Null || i >= len(f.Targets) {
				parts = nil
				break
			}
			parts = append(parts, item.Fields[at].Value.Text)
		}
		if parts == nil {
			continue
		}
		name := f.To
		if slices.Contains(s.server.Databases(), name[0]) && len(name) > 1 {
			name = name[1:]
		}
		target, err := s.server.Table(ctx, c, t.database, name)
		if err != nil || len(target.Key) == 0 || target.Hidden {
			continue
		}
		there := &table{Table: target, database: t.database, name: name, sql: s.qualified(name)}
		d := s.server.Dialect()
		var same []string
		for i, n := range f.Targets {
			col := target.Named(n)
			if col == nil {
				same = nil
				break
			}
			same = append(same, d.Quote(n)+" = "+d.KeyLiteral(col, parts[i]))
		}
		if same == nil {
			continue
		}
		_, err = c.Run(ctx, "SELECT "+s.columns(there, 60)+" FROM "+there.sql+" WHERE "+strings.Join(same, " AND ")+" LIMIT 1", nil, func(values [][]byte) bool {
			row := there.row(values, 60)
			to.Key = row.Key
			for i, v := range row.Values { // what it is called: its first text
				if target.Columns[i].Is == store.Text && v.Is == store.Text && v.Text != "" {
					to.Says = v.Line(60)
					break
				}
			}
			return true
		})
		if err != nil {
			return // a transaction that has failed reads nothing more
		}
		for i := range item.Fields {
			if item.Fields[i].Column.Name == f.Columns[0] {
				item.Fields[i].To = to
				if to.Key == "" {
					to.Says = "not there"
				}
			}
		}
	}
}

// Language is what questions are asked in.
func (s *Source) Language() string { return "SQL" }

// askLimit is how long a question may take.
const askLimit = 10 * time.Minute

// Ask has the server carry out a statement.
func (s *Source) Ask(ctx context.Context, q store.Question) (store.Page, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	q = q.Bounded()
	statement, write := strings.TrimRight(strings.TrimSpace(q.Statement), "; \t\n"), q.Write
	if statement == "" {
		return store.Page{}, &store.AnswerError{Message: "there is no statement"}
	}
	d := s.server.Dialect()
	reads, err := d.reads(statement)
	switch {
	case err != nil:
		return store.Page{}, err
	case !reads && !write:
		return store.Page{}, &store.WritesError{Statement: statement}
	}
	p := store.Page{Rows: []store.Row{}, Fixed: "the answer to a question"}
	began := time.Now()
	// What a statement that may write leaves behind is nobody's but its own.
	err = s.lend(ctx, s.server.Databases()[0], !write, func(c Conn) error {
		ask := func() error {
			affected, err := c.Run(ctx, statement, func(columns []store.Column) { p.Columns = columns }, func(values [][]byte) bool {
				if len(p.Rows) == q.Limit {
					p.More = true
					return false
				}
				row := store.Row{}
				for i, v := range values {
					row.Values = append(row.Values, value(v, p.Columns[i].Is, q.Wide))
				}
				p.Rows = append(p.Rows, row)
				return true
			})
			if err == nil && len(p.Columns) == 0 {
				p.Says = fmt.Sprintf("%d rows changed", affected)
				if affected == 1 {
					p.Says = "1 row changed"
				}
			}
			return err
		}
		if write { // some statements can't be in a transaction
			for _, free := range d.Free {
				if err := exec(ctx, c, free); err != nil {
					return err
				}
			}
			return ask()
		}
		err := s.during(ctx, c, d.Read, ask)
		if err != nil && d.Wrote(err) {
			return &store.WritesError{Statement: statement}
		}
		return err
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

// writesFile finds what has a server write a file.
var writesFile = regexp.MustCompile(`(?i)\binto\s+(outfile|dumpfile)\b`)

// reads reports whether a statement looks as if it only read. That it does is seen
// to by the server; but a server lets some statements pass in any transaction.
func (d *Dialect) reads(text string) (bool, error) {
	one, err := d.single(text)
	if err != nil {
		return false, err
	}
	first := one.First()
	if first == "PRAGMA" && strings.Contains(text, "=") {
		return false, nil
	}
	return slices.Contains(d.Reads, first) && !writesFile.MatchString(text), nil
}

// single makes sure that a text is one statement.
func (d *Dialect) single(text string) (sqlscript.Statement, error) {
	all, err := sqlscript.Split(d.Script, text)
	var bad *sqlscript.Error
	switch {
	case errors.As(err, &bad):
		return sqlscript.Statement{}, &store.AnswerError{Message: fmt.Sprintf("line %d: %s", bad.Line, bad.What)}
	case err != nil:
		return sqlscript.Statement{}, err
	case len(all) == 0:
		return sqlscript.Statement{}, &store.AnswerError{Message: "there is no statement"}
	case len(all) > 1:
		return sqlscript.Statement{}, &store.AnswerError{Message: fmt.Sprintf("there are %d statements; ask one at a time", len(all))}
	}
	return all[0], nil
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
