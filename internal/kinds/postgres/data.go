package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgtype"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/data/store/sqlstore"
	"neighbour/internal/core/kind"
)

// Source looks into the databases as the user of the facts.
func (Kind) Source(in *kind.Instance) (store.Source, error) { return sqlstore.New(&server{in}), nil }

// server is what the look into a PostgreSQL server knows of it.
type server struct{ in *kind.Instance }

func (s *server) Databases() []string {
	if names := s.in.Service.Settings.(*Settings).Databases; len(names) > 0 {
		return names
	}
	return []string{"postgres"}
}

// Connect opens a connection that is quick to give up.
func (s *server) Connect(ctx context.Context, database string) (sqlstore.Conn, error) {
	user, password, err := s.in.Login(s.in.Service.Settings.(*Settings).Users, superuser)
	if err != nil {
		return nil, err
	}
	config, err := pgconn.ParseConfig(address(s.in, user, password, database))
	if err != nil {
		return nil, err
	}
	config.RuntimeParams = map[string]string{"application_name": "neighbour", "client_min_messages": "warning", "bytea_output": "hex",
		"synchronize_seqscans": "off"} // without a key rows are paged in their order on disk
	config.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: cancelDelay}
	}
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &dataConn{conn}, nil
}

// dataConn is a connection on which data is looked at.
type dataConn struct{ conn *pgconn.PgConn }

func (c *dataConn) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return c.conn.Close(ctx)
}

// Run asks for all values as texts.
func (c *dataConn) Run(ctx context.Context, statement string, columns func([]store.Column), row func([][]byte) bool) (int64, error) {
	inner, stop := context.WithCancel(ctx)
	defer stop()
	result := c.conn.ExecParams(inner, statement, nil, nil, nil, nil)
	stopped := false
	described := result.FieldDescriptions()
	if len(described) > 0 && columns != nil {
		columns(columnsOf(described))
	}
	for result.NextRow() {
		values := result.Values()
		for i, d := range described {
			if d.DataTypeOID == pgtype.ByteaOID && values[i] != nil {
				values[i] = bytes.TrimPrefix(values[i], []byte(`\x`))
			}
		}
		if row != nil && !stopped && !row(values) {
			stopped = true
			stop() // the server is told, and says that it has left it
		}
	}
	tag, err := result.Close()
	if stopped && ctx.Err() == nil {
		return 0, nil
	}
	return tag.RowsAffected(), answer(ctx, statement, err)
}

// answer explains what the server says.
func answer(ctx context.Context, statement string, err error) error {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || ctx.Err() != nil {
		return err
	}
	e := &answerError{code: refused.Code}
	e.Message, e.At = refused.Message, int(refused.Position)
	for _, more := range []string{refused.Detail, refused.Hint} {
		if more != "" {
			e.Message += "; " + strings.TrimSuffix(more, ".")
		}
	}
	return e
}

// answerError is a refusal with its code (PostgreSQL, appendix A).
type answerError struct {
	store.AnswerError
	code string
}

func (e *answerError) Unwrap() error { return &e.AnswerError }

// columnsOf describes the columns of an answer.
func columnsOf(described []pgconn.FieldDescription) []store.Column {
	out := make([]store.Column, len(described))
	types := pgtype.NewMap()
	for i, d := range described {
		out[i] = store.Column{Name: d.Name, Type: "other", Is: store.Text}
		if t, ok := types.TypeForOID(d.DataTypeOID); ok {
			out[i].Type, out[i].Is = t.Name, formOf(t.Name)
		}
	}
	return out
}

// formOf tells of what sort the values of a type are.
func formOf(name string) store.Form {
	base, _, _ := strings.Cut(name, "(")
	switch base {
	case "smallint", "integer", "bigint", "numeric", "real", "double precision", "oid", "money", "int2", "int4", "int8", "float4", "float8":
		return store.Number
	case "boolean", "bool":
		return store.Truth
	case "json", "jsonb":
		return store.JSON
	case "bytea":
		return store.Binary
	}
	if strings.HasPrefix(name, "timestamp") || strings.HasPrefix(name, "time") || name == "date" || name == "interval" {
		return store.Time
	}
	return store.Text
}

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

var dialect = &sqlstore.Dialect{
	Script:  sqlscript.PostgreSQL,
	Reads:   []string{"SELECT", "WITH", "VALUES", "TABLE", "SHOW", "EXPLAIN"},
	Read:    []string{"BEGIN READ ONLY"},
	Write:   []string{"BEGIN"},
	Quote:   quote,
	Literal: literal,
	Cut: func(c *sqlstore.Column, n int) string {
		if c.Is == store.Binary {
			return fmt.Sprintf("encode(substring(%s FROM 1 FOR %d), 'hex')", quote(c.Name), n/2)
		}
		return fmt.Sprintf("left(%s::text, %d)", quote(c.Name), n)
	},
	Key: func(c *sqlstore.Column) string { return quote(c.Name) + "::text" },
	KeyLiteral: func(c *sqlstore.Column, text string) string {
		if c == ctid {
			return literal(text) + "::tid"
		}
		return literal(text)
	},
	Contains: func(c *sqlstore.Column, text string) string {
		return fmt.Sprintf("strpos(lower(%s::text), lower(%s)) > 0", quote(c.Name), literal(text))
	},
	Unordered:  true,
	Default:    "DEFAULT VALUES",
	Overriding: " OVERRIDING SYSTEM VALUE",
	Truncate:   func(table string) string { return "TRUNCATE " + table },
	Hex:        func(digits string) string { return `'\x` + digits + `'` },
	Wrote: func(err error) bool {
		var e *answerError
		return errors.As(err, &e) && (e.code == "25006" || e.code == "25001") // read_only_sql_transaction, active_sql_transaction
	},
}

func (s *server) Dialect() *sqlstore.Dialect { return dialect }

// ctid is where a row is on disk: what a table without a key is paged by.
var ctid = &sqlstore.Column{Column: store.Column{Name: "ctid"}}

// Tables lists the tables, views and foreign tables. How many rows there are is
// the server's estimate, but of small tables, which are counted.
func (s *server) Tables(ctx context.Context, c sqlstore.Conn, database string) ([]store.Collection, error) {
	all, err := sqlstore.Rows(ctx, c, `SELECT n.nspname, c.relname, c.relkind, CASE WHEN c.relkind IN ('r', 'm') THEN greatest(c.reltuples, coalesce(pg_stat_get_live_tuples(c.oid), 0)) ELSE -1 END::bigint,
		CASE WHEN c.relkind IN ('r', 'm') THEN pg_total_relation_size(c.oid) ELSE -1 END, has_table_privilege(c.oid, 'SELECT')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'
		AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e') ORDER BY n.nspname, c.relname`)
	if err != nil {
		return nil, err
	}
	out := make([]store.Collection, 0, len(all))
	var counts []string
	for i, r := range all {
		one := store.Collection{Name: store.Join(database, r[0], r[1]), Group: database, Title: r[1], About: true, Is: kindsOfTable[r[2]]}
		if r[0] != "public" {
			one.Group = database + " › " + r[0]
		}
		one.Count, _ = strconv.ParseInt(r[3], 10, 64)
		one.Bytes, _ = strconv.ParseInt(r[4], 10, 64)
		if one.Is == "table" && one.Bytes >= 0 && one.Bytes <= countedBelow && r[5] == "t" && len(counts) < 200 {
			counts = append(counts, fmt.Sprintf("SELECT %d, count(*) FROM %s.%s", i, quote(r[0]), quote(r[1])))
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

var kindsOfTable = map[string]string{"r": "table", "p": "partitioned table", "v": "view", "m": "materialized view", "f": "foreign table"}

// Table describes a table.
func (s *server) Table(ctx context.Context, c sqlstore.Conn, database string, name []string) (*sqlstore.Table, error) {
	if len(name) == 1 {
		name = []string{"public", name[0]}
	}
	gone := &store.GoneError{What: "a table " + store.Join(append([]string{database}, name...)...)}
	if len(name) != 2 {
		return nil, gone
	}
	found, err := sqlstore.Rows(ctx, c, fmt.Sprintf("SELECT c.oid, c.relkind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = %s AND c.relname = %s AND c.relkind IN ('r', 'p', 'v', 'm', 'f')", literal(name[0]), literal(name[1])))
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, gone
	}
	oid, is := found[0][0], found[0][1]
	t := &sqlstore.Table{View: is == "v" || is == "m"}
	columns, err := sqlstore.Rows(ctx, c, `SELECT a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attlen, a.attidentity <> '' OR a.attgenerated <> '' OR pg_get_expr(d.adbin, d.adrelid) LIKE 'nextval(%', a.attgenerated <> '', coalesce(pg_get_expr(d.adbin, d.adrelid), '')
		FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum WHERE a.attrelid = `+oid+` AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`)
	if err != nil {
		return nil, err
	}
	byNumber := map[string]int{}
	for i, r := range columns {
		byNumber[r[0]] = i
		col := sqlstore.Column{Column: store.Column{Name: r[1], Type: r[2], Is: formOf(r[2]), Must: r[3] == "t"}, Long: r[4] == "-1" && !strings.HasPrefix(r[2], "numeric"), Made: r[5] == "t", Computed: r[6] == "t", Default: r[7]}
		t.Columns = append(t.Columns, col)
	}
	indexes, err := sqlstore.Rows(ctx, c, `SELECT i.indisprimary, i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL, array_to_string(i.indkey[0:i.indnkeyatts - 1], ' '), pg_get_indexdef(i.indexrelid), x.relname, i.indisunique
		FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = `+oid+` ORDER BY i.indisprimary DESC, i.indnkeyatts, i.indexrelid`)
	if err != nil {
		return nil, err
	}
	for _, r := range indexes {
		_, on, _ := strings.Cut(r[3], " USING ")
		t.Indexes = append(t.Indexes, sqlstore.Index{Name: r[4], Unique: r[5] == "t", On: on})
		if r[1] != "t" || len(t.Key) > 0 || t.View {
			continue
		}
		for _, number := range strings.Fields(r[2]) {
			i, known := byNumber[number]
			if !known || !t.Columns[i].Must {
				t.Key = nil
				break
			}
			t.Key = append(t.Key, &t.Columns[i])
		}
	}
	for _, k := range t.Key {
		k.Column.Key = true
	}
	if len(t.Key) == 0 && (is == "r" || is == "m") {
		t.Key, t.Hidden = []*sqlstore.Column{ctid}, true
	}
	foreign, err := sqlstore.Rows(ctx, c, `SELECT array_to_string(k.conkey, ' '), n.nspname, c.relname, (SELECT json_agg(a.attname ORDER BY x.at) FROM unnest(k.confkey) WITH ORDINALITY x(num, at) JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = x.num)
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.confrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE k.contype = 'f' AND k.conparentid = 0 AND k.conrelid = `+oid+` ORDER BY k.conname`)
	if err != nil {
		return nil, err
	}
	for _, r := range foreign {
		f := sqlstore.Foreign{To: []string{database, r[1], r[2]}, Targets: sqlstore.Strings(r[3])}
		for _, number := range strings.Fields(r[0]) {
			if i, known := byNumber[number]; known {
				f.Columns = append(f.Columns, t.Columns[i].Name)
			}
		}
		t.Foreign = append(t.Foreign, f)
	}
	t.Lead()
	return t, nil
}
