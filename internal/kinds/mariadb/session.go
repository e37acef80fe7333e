package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// Scripts returns what changes the database.
func (s *Settings) Scripts() declare.Scripts {
	return declare.Scripts{Migrations: s.Migrations, Seed: s.Seed}
}

// Session connects to the database of the facts, as their user.
func (Kind) Session(ctx context.Context, in *kind.Instance) (migrate.Session, error) {
	user, password, err := in.Login(in.Service.Settings.(*Settings).Users, root)
	if err != nil {
		return nil, err
	}
	db, err := openAs(in, user, password, database(in))
	if err != nil {
		return nil, err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	s := &session{in: in, db: db, conn: conn}
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&s.id); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// session is a connection on which files of SQL are carried out.
type session struct {
	in   *kind.Instance
	db   *sql.DB
	conn *sql.Conn
	id   int
}

func (s *session) Dialect() sqlscript.Dialect { return sqlscript.MariaDB }

func (s *session) Close() error {
	return errors.Join(s.conn.Close(), s.db.Close())
}

// Exec carries out a statement. The driver would leave it to the server when ctx
// ends, which goes on; so the server is told to end it.
func (s *session) Exec(ctx context.Context, st sqlscript.Statement) error {
	interrupted := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		s.interrupt()
		close(interrupted)
	})
	_, err := s.conn.ExecContext(context.WithoutCancel(ctx), st.Text)
	if !stop() { // it must not meet the statement after this one
		<-interrupted
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return refused(err)
}

// interrupt ends what the connection does, from another one.
func (s *session) interrupt() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	db, err := open(s.in)
	if err != nil {
		return
	}
	defer db.Close()
	_, _ = db.ExecContext(ctx, "KILL QUERY "+strconv.Itoa(s.id))
}

var atLine = lazyregexp.New(` at line (\d+)$`)

// refused explains what the server says of a statement.
func refused(err error) error {
	var answer *mysql.MySQLError
	if !errors.As(err, &answer) {
		return err
	}
	e := &migrate.ServerError{Message: strings.Join(strings.Fields(answer.Message), " ")}
	if m := atLine.FindStringSubmatch(answer.Message); m != nil {
		n, _ := strconv.Atoi(m[1])
		e.Line = max(0, n-1)
		e.Message = strings.TrimSuffix(e.Message, m[0])
	}
	switch answer.Number { // MariaDB, "Error Codes"
	case 1146: // ER_NO_SUCH_TABLE
		e.NoTable, e.Gone = true, true
	case 1007, 1050, 1060, 1061, 1304, 1359, 1396, 1537, 1826, 1022: // a database, table, column, key, routine, trigger, user, event, foreign key exists
		e.Exists = true
	case 1008, 1051, 1091, 1305, 1360, 1539: // the same, and it is gone
		e.Gone = true
	}
	return e
}

func (s *session) Rows(ctx context.Context, query string) ([][]string, error) {
	return textRows(ctx, s.conn, query)
}

// textRows returns the rows of a query, their values as text.
func textRows(ctx context.Context, conn *sql.Conn, query string) ([][]string, error) {
	rows, err := conn.QueryContext(ctx, query)
	if err != nil {
		return nil, refused(err)
	}
	return migrate.ReadRows(rows)
}

func (s *session) Tables(ctx context.Context) (int, error) {
	all, err := s.Rows(ctx, "SELECT count(*) FROM information_schema.tables WHERE table_schema = database()")
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(all[0][0])
}

// Waits asks on a connection of its own whom the session's statement waits for.
// Who has a table's metadata the server doesn't tell, so that those come into
// question who have a transaction open.
func (s *session) Waits(ctx context.Context) string {
	db, err := open(s.in)
	if err != nil {
		return ""
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return ""
	}
	defer conn.Close()
	mine, err := textRows(ctx, conn, fmt.Sprintf("SELECT coalesce(p.state, ''), coalesce(t.trx_state, '') FROM information_schema.processlist p LEFT JOIN information_schema.innodb_trx t ON t.trx_mysql_thread_id = p.id WHERE p.id = %d", s.id))
	if err != nil || len(mine) == 0 || !strings.Contains(mine[0][0], " lock") && mine[0][1] != "LOCK WAIT" {
		return ""
	}
	others, err := textRows(ctx, conn, fmt.Sprintf("SELECT p.id, p.user, p.command, coalesce(left(p.info, 60), '') FROM information_schema.processlist p LEFT JOIN information_schema.innodb_trx t ON t.trx_mysql_thread_id = p.id "+
		"WHERE p.id NOT IN (%d, CONNECTION_ID()) AND p.user <> 'system user' AND (t.trx_id IS NOT NULL OR p.command = 'Query') ORDER BY t.trx_started IS NULL, t.trx_started LIMIT 1", s.id))
	if err != nil || len(others) == 0 {
		return "for a lock of another client"
	}
	o := others[0]
	does := strings.ToLower(o[2])
	if o[3] != "" {
		does += ": " + o[3]
	}
	return fmt.Sprintf("for a lock of another client (user %s, connection %s of the server, %s)", o[1], o[0], does)
}

// Contents says what the databases hold, for whoever is about to empty them.
func (Kind) Contents(ctx context.Context, in *kind.Instance) ([]string, error) {
	db, err := open(in)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var out []string
	for _, name := range databases(in) {
		literal := "'" + strings.NewReplacer("'", "''", `\`, `\\`).Replace(name) + "'"
		all, err := textRows(ctx, conn, "SELECT count(*), coalesce(sum(table_rows), 0), coalesce(sum(data_length + index_length), 0) FROM information_schema.tables WHERE table_type = 'BASE TABLE' AND table_schema = "+literal)
		if err != nil {
			return nil, err
		}
		out = append(out, kind.DatabaseContents(name, all[0][0], "about "+all[0][1], all[0][2]))
	}
	return out, nil
}
