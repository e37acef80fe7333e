package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/data/store/sqlstore"
	"neighbour/internal/core/kind"
)

// Source looks into the file.
func (Kind) Source(in *kind.Instance) (store.Source, error) { return sqlstore.New(&server{in}), nil }

// server is what the look into a file knows of it.
type server struct{ in *kind.Instance }

// Databases are the one of the file.
func (s *server) Databases() []string { return []string{filepath.Base(path(s.in))} }

// Connect opens the file, which must be there.
func (s *server) Connect(ctx context.Context, _ string) (sqlstore.Conn, error) {
	info, err := os.Stat(path(s.in))
	if err != nil || info.IsDir() {
		return nil, &store.GoneError{What: path(s.in)}
	}
	u := url.URL{Scheme: "file", OmitHost: true, Path: path(s.in), RawQuery: "mode=rw&_pragma=busy_timeout(2000)&_pragma=foreign_keys(1)"}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, answer(err)
	}
	return &dataConn{db: db, conn: conn, path: path(s.in), file: info}, nil
}

// dataConn is a connection on which data is looked at.
type dataConn struct {
	db   *sql.DB
	conn *sql.Conn
	path string
	file os.FileInfo
	// forms are those of the values of the row that is read now.
	forms []store.Form
}

// Stale reports whether another file has taken the place of the one that is open.
func (c *dataConn) Stale() bool {
	now, err := os.Stat(c.path)
	return err != nil || !os.SameFile(now, c.file)
}

func (c *dataConn) Close() error { return errors.Join(c.conn.Close(), c.db.Close()) }

// Run writes the values as SQLite's own shell does, but for binary ones.
func (c *dataConn) Run(ctx context.Context, statement string, columns func([]store.Column), row func([][]byte) bool) (int64, error) {
	if row == nil {
		result, err := c.conn.ExecContext(ctx, statement)
		if err != nil {
			return 0, answer(err)
		}
		return result.RowsAffected()
	}
	rows, err := c.conn.QueryContext(ctx, statement)
	if err != nil {
		return 0, answer(err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return 0, answer(err)
	}
	if columns != nil && len(types) > 0 {
		out := make([]store.Column, len(types))
		for i, t := range types {
			name := strings.ToLower(t.DatabaseTypeName())
			out[i] = store.Column{Name: t.Name(), Type: name, Is: formOf(name)}
		}
		columns(out)
	}
	values, into := make([]any, len(types)), make([]any, len(types))
	for i := range values {
		into[i] = &values[i]
	}
	texts := make([][]byte, len(types))
	c.forms = make([]store.Form, len(types))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return 0, answer(err)
		}
		for i, v := range values {
			texts[i], c.forms[i] = textOf(v)
			if columns == nil && bytes.HasPrefix(texts[i], []byte{0}) { // as Cut writes it
				texts[i], c.forms[i] = bytes.ToLower(texts[i][1:]), store.Binary
			}
		}
		if !row(texts) {
			return 0, nil
		}
	}
	if err := rows.Err(); err != nil || len(types) > 0 {
		return 0, answer(err)
	}
	var n int64
	err = c.conn.QueryRowContext(ctx, "SELECT changes()").Scan(&n)
	return n, answer(err)
}

// Forms tells of what sort the values of the row are that is read now.
func (c *dataConn) Forms() []store.Form { return c.forms }

func textOf(v any) ([]byte, store.Form) {
	switch v := v.(type) {
	case nil:
		return nil, store.Null
	case []byte:
		return hex.AppendEncode([]byte{}, v), store.Binary
	case string:
		return append([]byte{}, v...), store.Text
	case time.Time: // the driver reads what is declared as a time
		return v.AppendFormat(nil, "2006-01-02 15:04:05.999999999Z07:00"), store.Time
	case float64:
		text := strconv.AppendFloat([]byte{}, v, 'g', -1, 64)
		if !bytes.ContainsAny(text, ".eIN") { // not an integer, which is another type
			text = append(text, ".0"...)
		}
		return text, store.Number
	case bool:
		return strconv.AppendBool(nil, v), store.Truth
	}
	return fmt.Append(nil, v), store.Number
}

// answerError is a refusal with its code.
type answerError struct {
	store.AnswerError
	code int
}

func (e *answerError) Unwrap() error { return &e.AnswerError }

func answer(err error) error {
	var refused *sqlite.Error
	if !errors.As(err, &refused) || codeOf(err) == sqlite3.SQLITE_INTERRUPT {
		return err
	}
	return &answerError{store.AnswerError{Message: message(err)}, codeOf(err)}
}

// formOf tells of what sort the values of a declared type are (SQLite, "Datatypes",
// section 3.1).
func formOf(declared string) store.Form {
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(declared, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("json"):
		return store.JSON
	case has("blob"):
		return store.Binary
	case has("bool"):
		return store.Truth
	case has("date", "time"):
		return store.Time
	case has("char", "clob", "text"):
		return store.Text
	case has("int", "real", "floa", "doub", "num", "dec"):
		return store.Number
	}
	return store.Text
}

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// asText has values written as they are, a time as it was stored.
var dialect = &sqlstore.Dialect{
	Script:  sqlscript.SQLite,
	Reads:   []string{"SELECT", "WITH", "VALUES", "EXPLAIN", "PRAGMA"},
	Read:    []string{"PRAGMA query_only = 1", "BEGIN"},
	Write:   []string{"PRAGMA query_only = 0", "BEGIN IMMEDIATE"},
	Free:    []string{"PRAGMA query_only = 0"},
	Quote:   quote,
	Literal: literal,
	Cut: func(c *sqlstore.Column, n int) string {
		q := quote(c.Name)
		// A text may have a character 0 in it, at which substr ends; one at the
		// beginning says that binary digits follow, since the driver takes binary
		// values of no length for NULL.
		return fmt.Sprintf("CASE typeof(%[1]s) WHEN 'blob' THEN char(0) || hex(substr(%[1]s, 1, %[2]d)) WHEN 'text' THEN CASE WHEN instr(CAST(%[1]s AS BLOB), x'00') THEN char(0) || hex(substr(CAST(%[1]s AS BLOB), 1, %[2]d)) ELSE substr(%[1]s, 1, %[3]d) END ELSE %[1]s END", q, n/2, n)
	},
	Key: func(c *sqlstore.Column) string {
		q := quote(c.Name)
		return fmt.Sprintf("CASE typeof(%s) WHEN 'blob' THEN 'x' || hex(%s) WHEN 'text' THEN 't' || %s ELSE 'n' || %s END", q, q, q, q)
	},
	// Values of different types are never equal, so a key tells its type.
	KeyLiteral: func(_ *sqlstore.Column, text string) string {
		switch {
		case text == "":
			return "NULL"
		case text[0] == 'x' && strings.Trim(text[1:], "0123456789ABCDEFabcdef") == "":
			return "X'" + text[1:] + "'"
		case text[0] == 'n':
			if _, err := strconv.ParseFloat(text[1:], 64); err == nil {
				return text[1:]
			}
		case text[0] == 't':
			text = text[1:]
		}
		return literal(text)
	},
	Contains: func(c *sqlstore.Column, text string) string {
		return fmt.Sprintf("instr(lower(%s), lower(%s)) > 0", quote(c.Name), literal(text))
	},
	Default:  "DEFAULT VALUES",
	Truncate: func(table string) string { return "DELETE FROM " + table },
	Hex:      func(digits string) string { return "X'" + digits + "'" },
	Wrote: func(err error) bool {
		var e *answerError
		return errors.As(err, &e) && e.code == sqlite3.SQLITE_READONLY
	},
}

func (s *server) Dialect() *sqlstore.Dialect { return dialect }

// countedUpTo is how many rows of a table are counted.
const countedUpTo = 20_000

// Tables lists the tables and views. Rows are counted up to a number; of tables with
// more, the largest rowid is the estimate.
func (s *server) Tables(ctx context.Context, c sqlstore.Conn, database string) ([]store.Collection, error) {
	all, err := sqlstore.Rows(ctx, c, "SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'view', 'virtual') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name")
	if err != nil {
		return nil, err
	}
	out := make([]store.Collection, 0, len(all))
	for _, r := range all {
		one := store.Collection{Name: store.Join(r[0]), Group: database, Title: r[0], Is: r[1], Count: -1, Bytes: -1}
		if r[1] == "table" {
			n, err := sqlstore.Rows(ctx, c, fmt.Sprintf("SELECT count(*) FROM (SELECT 1 FROM %s LIMIT %d)", quote(r[0]), countedUpTo+1))
			if err != nil {
				return nil, err
			}
			if one.Count, _ = strconv.ParseInt(n[0][0], 10, 64); one.Count > countedUpTo {
				one.Count = -1
				if most, err := sqlstore.Rows(ctx, c, "SELECT max(rowid) FROM "+quote(r[0])); err == nil && r[2] == "0" {
					one.Count, _ = strconv.ParseInt(most[0][0], 10, 64)
					one.About = true
				}
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// Table describes a table.
func (s *server) Table(ctx context.Context, c sqlstore.Conn, _ string, name []string) (*sqlstore.Table, error) {
	gone := &store.GoneError{What: "a table " + store.Join(name...)}
	if len(name) != 1 {
		return nil, gone
	}
	is, err := sqlstore.Rows(ctx, c, "SELECT type, wr FROM pragma_table_list WHERE schema = 'main' AND name = "+literal(name[0]))
	if err != nil {
		return nil, err
	}
	if len(is) == 0 {
		return nil, gone
	}
	t := &sqlstore.Table{View: is[0][0] == "view"}
	columns, err := sqlstore.Rows(ctx, c, "SELECT name, type, \"notnull\", pk, hidden, coalesce(dflt_value, '') FROM pragma_table_xinfo("+literal(name[0])+") WHERE hidden <> 1")
	if err != nil {
		return nil, err
	}
	parts := 0
	for _, r := range columns {
		declared := strings.ToLower(r[1])
		col := sqlstore.Column{Column: store.Column{Name: r[0], Type: declared, Is: formOf(declared), Must: r[2] == "1", Key: r[3] != "0"}, Long: true, Made: r[4] != "0", Computed: r[4] == "2" || r[4] == "3", Default: r[5]}
		if r[3] != "0" {
			parts++
			col.Made = declared == "integer"
		}
		t.Columns = append(t.Columns, col)
	}
	for n := 1; n <= parts; n++ { // in the order of the key
		for i, r := range columns {
			if r[3] == strconv.Itoa(n) {
				t.Key = append(t.Key, &t.Columns[i])
			}
		}
	}
	if parts > 1 {
		for _, k := range t.Key {
			k.Made = false
		}
	}
	if len(t.Key) == 0 && is[0][0] == "table" {
		t.Key = []*sqlstore.Column{{Column: store.Column{Name: "rowid"}}}
	}
	indexes, err := sqlstore.Rows(ctx, c, "SELECT l.name, l.\"unique\", group_concat(coalesce(i.name, 'an expression'), ', ') FROM pragma_index_list("+literal(name[0])+") l, pragma_index_info(l.name) i GROUP BY l.seq ORDER BY l.seq")
	if err != nil {
		return nil, err
	}
	for _, r := range indexes {
		t.Indexes = append(t.Indexes, sqlstore.Index{Name: r[0], Unique: r[1] == "1", On: "(" + r[2] + ")"})
	}
	foreign, err := sqlstore.Rows(ctx, c, "SELECT id, \"table\", \"from\", coalesce(\"to\", '') FROM pragma_foreign_key_list("+literal(name[0])+") ORDER BY id, seq")
	if err != nil {
		return nil, err
	}
	last := ""
	for _, r := range foreign {
		if r[0] != last {
			t.Foreign = append(t.Foreign, sqlstore.Foreign{To: []string{r[1]}})
		}
		last = r[0]
		f := &t.Foreign[len(t.Foreign)-1]
		f.Columns, f.Targets = append(f.Columns, r[2]), append(f.Targets, r[3])
	}
	t.Lead()
	return t, nil
}
