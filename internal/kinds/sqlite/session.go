package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/proc"
)

// Session opens the database.
func (k Kind) Session(ctx context.Context, in *kind.Instance) (migrate.Session, error) {
	return k.session(ctx, in)
}

func (Kind) session(ctx context.Context, in *kind.Instance) (*session, error) {
	db, err := open(in)
	if err != nil {
		return nil, err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	return &session{path: path(in), db: db, conn: conn}, nil
}

// session is a connection on which files of SQL are carried out.
type session struct {
	path    string
	db      *sql.DB
	conn    *sql.Conn
	waiting atomic.Bool // for whoever has the database locked
}

func (s *session) Dialect() sqlscript.Dialect { return sqlscript.SQLite }

func (s *session) Close() error { return errors.Join(s.conn.Close(), s.db.Close()) }

// retry is the pause between tries while somebody else has the database locked.
const retry = 20 * time.Millisecond

// Exec carries out a statement. A transaction takes the lock when it begins, so
// that none fails for want of it half-way.
func (s *session) Exec(ctx context.Context, st sqlscript.Statement) error {
	text := st.Text
	if text == "BEGIN" {
		text = "BEGIN IMMEDIATE"
	}
	defer s.waiting.Store(false)
	for {
		_, err := s.conn.ExecContext(ctx, text)
		if code := codeOf(err); code != sqlite3.SQLITE_BUSY && code != sqlite3.SQLITE_LOCKED {
			return refused(err)
		}
		s.waiting.Store(true)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(retry):
		}
	}
}

func codeOf(err error) int {
	var answer *sqlite.Error
	if errors.As(err, &answer) {
		return answer.Code() & 0xff // the primary code
	}
	return 0
}

// message is what SQLite says, without the driver's own words around it.
func message(err error) string {
	text := err.Error()
	text = strings.TrimPrefix(text, "SQL logic error: ")
	if i := strings.LastIndex(text, " ("); i > 0 && strings.HasSuffix(text, ")") {
		text = text[:i]
	}
	return text
}

// refused explains what SQLite says of a statement.
func refused(err error) error {
	var answer *sqlite.Error
	if !errors.As(err, &answer) {
		return err
	}
	e := &migrate.ServerError{Message: message(err)}
	e.NoTable = strings.Contains(e.Message, "no such table")
	e.Gone = strings.Contains(e.Message, "no such")
	e.Exists = strings.Contains(e.Message, "already exists") || strings.Contains(e.Message, "duplicate column")
	e.Alone = strings.Contains(e.Message, "within a transaction") || strings.Contains(e.Message, "inside a transaction")
	return e
}

func (s *session) Rows(ctx context.Context, query string) ([][]string, error) {
	rows, err := s.conn.QueryContext(ctx, query)
	if err != nil {
		return nil, refused(err)
	}
	out, err := migrate.ReadRows(rows)
	return out, refused(err)
}

func (s *session) Tables(ctx context.Context) (int, error) {
	all, err := s.Rows(ctx, "SELECT count(*) FROM sqlite_schema WHERE type = 'table'")
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(all[0][0])
}

// Waits says who has the file open while the database is locked.
func (s *session) Waits(context.Context) string {
	if !s.waiting.Load() {
		return ""
	}
	for _, pid := range proc.Opened(s.path) {
		return fmt.Sprintf("for a lock of %s, pid %d, which has the file open", proc.NameOf(pid), pid)
	}
	return "for a lock of another process, which has the file open"
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
