package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Scripts returns what changes the database.
func (s *Settings) Scripts() declare.Scripts {
	return declare.Scripts{Migrations: s.Migrations, Seed: s.Seed}
}

// Session connects to the database of the facts, as their user: what is made is
// the app's.
func (Kind) Session(ctx context.Context, in *kind.Instance) (migrate.Session, error) {
	user, password, err := in.Login(in.Service.Settings.(*Settings).Users, superuser)
	if err != nil {
		return nil, err
	}
	config, err := pgconn.ParseConfig(address(in, user, password, database(in)))
	if err != nil {
		return nil, err
	}
	config.RuntimeParams = map[string]string{"application_name": "neighbour", "client_min_messages": "warning"}
	// A statement that nobody waits for any more must not be carried out later.
	config.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: cancelDelay}
	}
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &session{in: in, conn: conn, pid: conn.PID()}, nil
}

// session is a connection on which files of SQL are carried out.
type session struct {
	in   *kind.Instance
	conn *pgconn.PgConn
	pid  uint32
}

func (s *session) Dialect() sqlscript.Dialect { return sqlscript.PostgreSQL }

func (s *session) Close() error { return s.conn.Close(context.Background()) }

func (s *session) Exec(ctx context.Context, st sqlscript.Statement) error {
	if st.Copies {
		_, err := s.conn.CopyFrom(ctx, strings.NewReader(st.Data), st.Text)
		return refused(ctx, st.Text, err)
	}
	results := s.conn.Exec(ctx, st.Text)
	for results.NextResult() {
		r := results.ResultReader()
		for r.NextRow() { // a query's rows are nobody's
		}
		_, _ = r.Close()
	}
	return refused(ctx, st.Text, results.Close())
}

// refused explains what the server says of a statement.
func refused(ctx context.Context, text string, err error) error {
	var answer *pgconn.PgError
	if !errors.As(err, &answer) || ctx.Err() != nil {
		return err
	}
	e := &migrate.ServerError{Message: answer.Message}
	for _, more := range []string{answer.Detail, answer.Hint} {
		if more != "" {
			e.Message += "; " + strings.TrimSuffix(more, ".")
		}
	}
	if answer.Position > 0 { // in characters, counted from 1
		e.Line = bytes.Count([]byte(firstRunes(text, int(answer.Position)-1)), []byte("\n"))
	} else if line := copyLine(answer.Where); line > 0 {
		e.Line = strings.Count(text, "\n") + line
	}
	switch answer.Code { // PostgreSQL, appendix A
	case "42P01": // undefined_table
		e.NoTable, e.Gone = true, true
	case "42P07", "42710", "42P06", "42P04", "42701", "42723": // duplicate_table, _object, _schema, _database, _column, _function
		e.Exists = true
	case "42704", "3F000", "3D000", "42703", "42883": // undefined_object, _schema, _database, _column, _function
		e.Gone = true
	case "25001": // active_sql_transaction
		e.Alone = true
	}
	return e
}

// copyLine returns the row at which COPY failed, from the context of an error:
// "COPY loans, line 3, column id: …".
func copyLine(where string) int {
	_, after, found := strings.Cut(where, ", line ")
	if !strings.HasPrefix(where, "COPY ") || !found {
		return 0
	}
	digits, _, _ := strings.Cut(strings.TrimSpace(after), ",")
	digits, _, _ = strings.Cut(digits, ":")
	n, _ := strconv.Atoi(digits)
	return n
}

func firstRunes(text string, n int) string {
	for i := range text {
		if n == 0 {
			return text[:i]
		}
		n--
	}
	return text
}

func (s *session) Rows(ctx context.Context, query string) ([][]string, error) {
	return rows(ctx, s.conn, query)
}

func rows(ctx context.Context, conn *pgconn.PgConn, query string) ([][]string, error) {
	results, err := conn.Exec(ctx, query).ReadAll()
	if err != nil {
		return nil, refused(ctx, query, err)
	}
	var out [][]string
	for _, row := range results[len(results)-1].Rows {
		values := make([]string, len(row))
		for i, v := range row {
			values[i] = string(v)
		}
		out = append(out, values)
	}
	return out, nil
}

// userTables selects the tables that are not the server's own.
const userTables = "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'" +
	" AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')"

func (s *session) Tables(ctx context.Context) (int, error) {
	all, err := s.Rows(ctx, "SELECT count(*) FROM "+userTables)
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(all[0][0])
}

// Waits asks on a connection of its own whom the session's statement waits for.
func (s *session) Waits(ctx context.Context) string {
	conn, err := connect(ctx, s.in, database(s.in))
	if err != nil {
		return ""
	}
	defer conn.Close(ctx)
	all, err := rows(ctx, conn, fmt.Sprintf(`SELECT a.pid, coalesce(nullif(a.application_name, ''), 'a client'), coalesce(a.usename, ''), a.state,
		extract(epoch FROM now() - a.xact_start)::int, left(regexp_replace(a.query, '\s+', ' ', 'g'), 60)
		FROM unnest(pg_blocking_pids(%d)) b JOIN pg_stat_activity a ON a.pid = b LIMIT 1`, s.pid))
	if err != nil || len(all) == 0 {
		return ""
	}
	r := all[0]
	return fmt.Sprintf("for a lock of %s (user %s, pid %s of the server, %s; its newest statement: %s)", r[1], r[2], r[0], r[3], r[5])
}

// Contents says what the databases hold, for whoever is about to empty them.
func (Kind) Contents(ctx context.Context, in *kind.Instance) ([]string, error) {
	names := in.Service.Settings.(*Settings).Databases
	if len(names) == 0 {
		names = []string{"postgres"}
	}
	var out []string
	for _, name := range names {
		conn, err := connect(ctx, in, name)
		if err != nil {
			return nil, err
		}
		all, err := rows(ctx, conn, "SELECT count(*), coalesce(sum((xpath('/row/c/text()', query_to_xml(format('select count(*) as c from %I.%I', n.nspname, c.relname), false, true, '')))[1]::text::bigint), 0) FROM "+userTables)
		if err != nil { // without XML, or one table too large to be counted
			all, err = rows(ctx, conn, "SELECT count(*), coalesce(sum(greatest(c.reltuples, 0)), 0)::bigint FROM "+userTables)
		}
		size, sizeErr := rows(ctx, conn, "SELECT pg_database_size(current_database())")
		conn.Close(ctx)
		if err = errors.Join(err, sizeErr); err != nil {
			return nil, err
		}
		out = append(out, kind.DatabaseContents(name, all[0][0], all[0][1], size[0][0]))
	}
	return out, nil
}
