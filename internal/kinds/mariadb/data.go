package mariadb

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/data/store/sqlstore"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// Source looks into the databases as the user of the facts.
func (Kind) Source(in *kind.Instance) (store.Source, error) { return sqlstore.New(&server{in}), nil }

// server is what the look into a MariaDB or MySQL server knows of it.
type server struct{ in *kind.Instance }

func (s *server) Databases() []string {
	return databases(s.in)
}

// Connect opens a connection whose texts are UTF-8, with backslashes that escape.
func (s *server) Connect(ctx context.Context, database string) (sqlstore.Conn, error) {
	user, password, err := s.in.Login(s.in.Service.Settings.(*Settings).Users, root)
	if err != nil {
		return nil, err
	}
	config := configOf(s.in, user, password, database)
	config.ClientFoundRows = true // a row that is the same after a change was there
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	c := &dataConn{in: s.in, db: db, conn: conn}
	err = conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&c.id)
	if err == nil {
		_, err = conn.ExecContext(ctx, "SET SESSION sql_mode = REPLACE(@@sql_mode, 'NO_BACKSLASH_ESCAPES', ''), group_concat_max_len = 1000000")
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// dataConn is a connection on which data is looked at.
type dataConn struct {
	in   *kind.Instance
	db   *sql.DB
	conn *sql.Conn
	id   int
}

func (c *dataConn) Close() error { return errors.Join(c.conn.Close(), c.db.Close()) }

// Run has all values as texts, as the server sends them for a statement without
// parameters.
func (c *dataConn) Run(ctx context.Context, statement string, columns func([]store.Column), row func([][]byte) bool) (int64, error) {
	interrupted := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		(&session{in: c.in, id: c.id}).interrupt()
		close(interrupted)
	})
	n, err := c.run(context.WithoutCancel(ctx), statement, columns, row)
	if !stop() { // it must not meet the statement after this one
		<-interrupted
	}
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	return n, answer(err)
}

func (c *dataConn) run(ctx context.Context, statement string, columns func([]store.Column), row func([][]byte) bool) (int64, error) {
	if row == nil {
		result, err := c.conn.ExecContext(ctx, statement)
		if err != nil {
			return 0, err
		}
		return result.RowsAffected()
	}
	rows, err := c.conn.QueryContext(ctx, statement)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return 0, err
	}
	described := columnsOf(types)
	if columns != nil && len(types) > 0 {
		columns(described)
	}
	values, into := make([]sql.RawBytes, len(types)), make([]any, len(types))
	for i := range values {
		into[i] = &values[i]
	}
	out := make([][]byte, len(types))
	stopped := false
	for rows.Next() {
		if stopped {
			continue // the driver reads the rest in any case
		}
		if err := rows.Scan(into...); err != nil {
			return 0, err
		}
		for i, v := range values {
			if out[i] = v; v != nil && described[i].Is == store.Binary {
				out[i] = hex.AppendEncode([]byte{}, v)
			}
		}
		if !row(out) {
			stopped = true
			(&session{in: c.in, id: c.id}).interrupt()
		}
	}
	if stopped {
		return 0, nil
	}
	if err := rows.Err(); err != nil || len(types) > 0 {
		return 0, err
	}
	var n int64
	err = c.conn.QueryRowContext(ctx, "SELECT ROW_COUNT()").Scan(&n)
	return n, err
}

// answerError is a refusal with its number (MariaDB, "Error Codes").
type answerError struct {
	store.AnswerError
	number uint16
}

func (e *answerError) Unwrap() error { return &e.AnswerError }

func answer(err error) error {
	var refused *mysql.MySQLError
	if !errors.As(err, &refused) {
		return err
	}
	return &answerError{store.AnswerError{Message: strings.Join(strings.Fields(refused.Message), " ")}, refused.Number}
}

func columnsOf(types []*sql.ColumnType) []store.Column {
	out := make([]store.Column, len(types))
	for i, t := range types {
		name := strings.ToLower(t.DatabaseTypeName())
		out[i] = store.Column{Name: t.Name(), Type: name, Is: formOf(name)}
	}
	return out
}

// formOf tells of what sort the values of a type are.
func formOf(name string) store.Form {
	base, _, _ := strings.Cut(strings.TrimPrefix(name, "unsigned "), "(")
	base, _, _ = strings.Cut(base, " ")
	switch base {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "year":
		return store.Number
	case "json":
		return store.JSON
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection":
		return store.Binary
	case "date", "time", "datetime", "timestamp":
		return store.Time
	}
	return store.Text
}

func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func literal(text string) string {
	return "'" + strings.NewReplacer("'", "''", `\`, `\\`, "\x00", `\0`).Replace(text) + "'"
}

var dialect = &sqlstore.Dialect{
	Script: sqlscript.MariaDB,
	Reads:  []string{"SELECT", "WITH", "VALUES", "TABLE", "SHOW", "DESCRIBE", "DESC", "EXPLAIN", "HELP"},
	// For the session, too: what ends a transaction by itself begins another.
	Read:    []string{"SET SESSION TRANSACTION READ ONLY", "START TRANSACTION READ ONLY"},
	Write:   []string{"SET SESSION TRANSACTION READ WRITE", "START TRANSACTION READ WRITE"},
	Free:    []string{"SET SESSION TRANSACTION READ WRITE"},
	Quote:   quoteName,
	Literal: literal,
	Cut: func(c *sqlstore.Column, n int) string {
		if c.Is == store.Binary {
			return fmt.Sprintf("LOWER(HEX(LEFT(%s, %d)))", quoteName(c.Name), n/2)
		}
		return fmt.Sprintf("LEFT(%s, %d)", quoteName(c.Name), n)
	},
	Key: func(c *sqlstore.Column) string {
		if c.Is == store.Binary {
			return "HEX(" + quoteName(c.Name) + ")"
		}
		return quoteName(c.Name)
	},
	KeyLiteral: func(c *sqlstore.Column, text string) string {
		switch {
		case c.Is == store.Binary:
			return "X'" + text + "'"
		case c.Is == store.Number && plainNumber.MatchString(text): // a text would be compared as a floating point number
			return text
		}
		return literal(text)
	},
	Contains: func(c *sqlstore.Column, text string) string {
		return fmt.Sprintf("LOCATE(LOWER(%s), LOWER(CONVERT(%s USING utf8mb4))) > 0", literal(text), quoteName(c.Name))
	},
	NoRowValues: true,
	Default:     "() VALUES ()",
	Backslashes: true,
	Truncate:    func(table string) string { return "DELETE FROM " + table },
	Hex:         func(digits string) string { return "X'" + digits + "'" },
	Wrote: func(err error) bool {
		var e *answerError
		return errors.As(err, &e) && e.number == 1792 // ER_CANT_EXECUTE_IN_READ_ONLY_TRANSACTION
	},
}

var plainNumber = lazyregexp.New(`^-?\d+(\.\d+)?$`)

func (s *server) Dialect() *sqlstore.Dialect { return dialect }

// Tables lists the tables and views. How many rows there are is the server's
// estimate, but of small tables, which are counted.
func (s *server) Tables(ctx context.Context, c sqlstore.Conn, database string) ([]store.Collection, error) {
	all, err := sqlstore.Rows(ctx, c, "SELECT table_name, table_type, COALESCE(table_rows, -1), COALESCE(data_length + index_length, -1) FROM information_schema.tables WHERE table_schema = "+literal(database)+" ORDER BY table_name")
	if err != nil {
		return nil, err
	}
	out := make([]store.Collection, 0, len(all))
	var counts []string
	for i, r := range all {
		one := store.Collection{Name: store.Join(database, r[0]), Group: database, Title: r[0], Is: "table", About: true}
		one.Count, _ = strconv.ParseInt(r[2], 10, 64)
		one.Bytes, _ = strconv.ParseInt(r[3], 10, 64)
		if r[1] != "BASE TABLE" {
			one.Is, one.Count, one.Bytes = "view", -1, -1
		} else if one.Bytes <= countedBelow && len(counts) < 200 {
			counts = append(counts, fmt.Sprintf("SELECT %d, COUNT(*) FROM %s", i, quoteName(r[0])))
		}
		out = append(out, one)
	}
	if len(counts) > 0 {
		counted, err := sqlstore.Rows(ctx, c, strings.Join(counts, " UNION ALL "))
		if err != nil {
			return nil, err
		}
		for _, r := range counted {
			i, _ := strconv.Atoi(r[0])
			out[i].Count, _ = strconv.ParseInt(r[1], 10, 64)
			out[i].About = false
		}
	}
	return out, nil
}

// countedBelow is how large a table may be, in bytes, for its rows to be counted.
const countedBelow = 1 << 20

// Table describes a table.
func (s *server) Table(ctx context.Context, c sqlstore.Conn, database string, name []string) (*sqlstore.Table, error) {
	gone := &store.GoneError{What: "a table " + store.Join(append([]string{database}, name...)...)}
	if len(name) != 1 {
		return nil, gone
	}
	here := "table_schema = " + literal(database) + " AND table_name = " + literal(name[0])
	columns, err := sqlstore.Rows(ctx, c, "SELECT column_name, column_type, is_nullable, extra, COALESCE(character_maximum_length, 0), COALESCE(column_default, '') FROM information_schema.columns WHERE "+here+" ORDER BY ordinal_position")
	if err != nil {
		return nil, err
	}
	if len(columns) == 0 {
		return nil, gone
	}
	is, err := sqlstore.Rows(ctx, c, "SELECT table_type FROM information_schema.tables WHERE "+here)
	if err != nil {
		return nil, err
	}
	t := &sqlstore.Table{View: len(is) > 0 && is[0][0] != "BASE TABLE"}
	for _, r := range columns {
		col := sqlstore.Column{Column: store.Column{Name: r[0], Type: r[1], Is: formOf(r[1]), Must: r[2] == "NO"}, Made: strings.Contains(strings.ToLower(r[3]), "auto_increment") || strings.Contains(strings.ToLower(r[3]), "generated"), Computed: strings.Contains(strings.ToLower(r[3]), "generated")}
		long, _ := strconv.ParseInt(r[4], 10, 64)
		col.Long = long > 0 || col.Is == store.Binary
		if col.Default = r[5]; col.Default == "NULL" {
			col.Default = ""
		}
		t.Columns = append(t.Columns, col)
	}
	indexes, err := sqlstore.Rows(ctx, c, "SELECT index_name, MAX(non_unique), GROUP_CONCAT(column_name ORDER BY seq_in_index SEPARATOR '\\0'), MAX(nullable = 'YES'), MAX(sub_part IS NOT NULL), COUNT(*) FROM information_schema.statistics WHERE "+here+" GROUP BY index_name ORDER BY index_name <> 'PRIMARY', 6, 1")
	if err != nil {
		return nil, err
	}
	for _, r := range indexes {
		names := strings.Split(r[2], "\x00")
		t.Indexes = append(t.Indexes, sqlstore.Index{Name: r[0], Unique: r[1] == "0", On: "(" + strings.Join(names, ", ") + ")"})
		if r[1] == "0" && r[3] == "0" && r[4] == "0" && len(t.Key) == 0 && !t.View {
			for _, n := range names {
				if col := t.Named(n); col != nil {
					t.Key = append(t.Key, col)
				}
			}
		}
	}
	for _, k := range t.Key {
		k.Column.Key = true
	}
	foreign, err := sqlstore.Rows(ctx, c, "SELECT referenced_table_schema, referenced_table_name, GROUP_CONCAT(column_name ORDER BY ordinal_position SEPARATOR '\\0'), GROUP_CONCAT(referenced_column_name ORDER BY ordinal_position SEPARATOR '\\0') FROM information_schema.key_column_usage WHERE "+here+" AND referenced_table_name IS NOT NULL GROUP BY constraint_name, 1, 2")
	if err != nil {
		return nil, err
	}
	for _, r := range foreign {
		t.Foreign = append(t.Foreign, sqlstore.Foreign{To: []string{r[0], r[1]}, Columns: strings.Split(r[2], "\x00"), Targets: strings.Split(r[3], "\x00")})
	}
	t.Lead()
	return t, nil
}
