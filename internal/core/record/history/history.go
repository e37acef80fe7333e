// Package history keeps what a project's services did before, in a SQLite file
// of the project. Nothing depends on it: what can't be read is put aside, and
// what can't be written is not kept.
package history

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"sync"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"neighbour/internal/core/record/starts"
)

// Bounds of what is kept.
const (
	mostStarts = 2000
	mostAge    = 180 * 24 * time.Hour
	pruneEvery = 50 // starts
)

// DB is a project's history. Its methods may be called concurrently, also by
// several processes with the same file.
type DB struct {
	path string
	// aside is called when a damaged file was put aside, with where it is now.
	aside func(path string)

	mu      sync.Mutex
	db      *sql.DB
	unsaved int // starts since it was pruned
}

// New returns the history in a file. It is opened, and made, when it is used.
func New(path string, aside func(path string)) *DB { return &DB{path: path, aside: aside} }

// ErrNone is returned by what reads a history that isn't there, or that has no
// such start.
var ErrNone = errors.New("there is no such start in the history")

const schema = `
CREATE TABLE IF NOT EXISTS start (
	id     INTEGER PRIMARY KEY AUTOINCREMENT,
	began  INTEGER NOT NULL, -- milliseconds since 1970
	took   REAL NOT NULL,    -- milliseconds
	result TEXT NOT NULL,
	cold   INTEGER NOT NULL,
	number INTEGER NOT NULL, -- of services
	detail BLOB NOT NULL     -- starts.Start as JSON
);
CREATE TABLE IF NOT EXISTS declared (
	key    TEXT PRIMARY KEY, -- service.key
	digest TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS usage (
	step    INTEGER NOT NULL, -- milliseconds
	service TEXT NOT NULL,
	at      INTEGER NOT NULL, -- milliseconds since 1970
	cpu REAL, peak REAL, memory INTEGER, read INTEGER, written INTEGER, files INTEGER, threads INTEGER, processes INTEGER,
	PRIMARY KEY (step, service, at)
) WITHOUT ROWID;
PRAGMA user_version = 2;
`

// version is the schema's.
const version = 2

// open returns the open database. If it has to be made and make is false, it
// fails with ErrNone.
func (d *DB) open(ctx context.Context, make bool) (*sql.DB, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.db != nil {
		return d.db, nil
	}
	if _, err := os.Stat(d.path); errors.Is(err, fs.ErrNotExist) && !make {
		return nil, ErrNone
	}
	// One connection: there are few requests, and each more costs memory.
	source := "file:" + (&url.URL{Path: d.path}).EscapedPath() + "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=cache_size(-512)&_txlock=immediate"
	db, err := sql.Open("sqlite", source)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	var has int
	if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&has); err != nil {
		return nil, errors.Join(fmt.Errorf("%s can't be read: %w; it must be yours, with rights to read and write it", d.path, err), db.Close())
	}
	if has > version {
		return nil, errors.Join(fmt.Errorf("%s was made by a newer Neighbour, so nothing is added to it", d.path), db.Close())
	}
	if has < version {
		if _, err := db.ExecContext(ctx, schema); err != nil {
			return nil, errors.Join(err, db.Close())
		}
		_ = os.Chmod(d.path, 0o600)
	}
	d.db = db
	return db, nil
}

// with does something with the open database. A damaged file is put aside, and
// it is done once more with a new one.
func (d *DB) with(ctx context.Context, make bool, do func(*sql.DB) error) error {
	for again := true; ; again = false {
		db, err := d.open(ctx, make)
		if err == nil {
			err = do(db)
		}
		if !again || !damaged(err) {
			return err
		}
		d.putAside()
	}
}

// damaged reports whether an error says that the file is no sound database.
func damaged(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	primary := e.Code() & 0xff
	return primary == sqlite3.SQLITE_CORRUPT || primary == sqlite3.SQLITE_NOTADB
}

func (d *DB) putAside() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.db != nil {
		_ = d.db.Close()
		d.db = nil
	}
	to := fmt.Sprintf("%s.damaged-%s", d.path, time.Now().Format("20060102-150405"))
	if os.Rename(d.path, to) != nil {
		return
	}
	for _, more := range []string{"-wal", "-shm"} {
		_ = os.Remove(d.path + more)
	}
	if d.aside != nil {
		d.aside(to)
	}
}

// Close closes the file.
func (d *DB) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.db == nil {
		return nil
	}
	err := d.db.Close()
	d.db = nil
	return err
}

// Save keeps a start, and gives it an ID if it has none. One that has is kept in
// the place of what was there. A start that is under way is read as one that was
// cancelled then: whoever asks the history of it has no keeper to ask.
func (d *DB) Save(ctx context.Context, s *starts.Start) error {
	return d.with(ctx, true, func(db *sql.DB) error {
		detail, err := json.Marshal(s)
		if err != nil {
			return err
		}
		row := []any{s.Began.UnixMilli(), s.Took, s.Result, s.Cold, len(s.Services), detail}
		if s.ID != 0 {
			_, err := db.ExecContext(ctx, "INSERT OR REPLACE INTO start (id, began, took, result, cold, number, detail) VALUES (?, ?, ?, ?, ?, ?, ?)", append([]any{s.ID}, row...)...)
			return err
		}
		made, err := db.ExecContext(ctx, "INSERT INTO start (began, took, result, cold, number, detail) VALUES (?, ?, ?, ?, ?, ?)", row...)
		if err != nil {
			return err
		}
		if s.ID, err = made.LastInsertId(); err != nil {
			return err
		}
		return d.prune(ctx, db)
	})
}

// prune deletes now and then what is too much, or too old.
func (d *DB) prune(ctx context.Context, db *sql.DB) error {
	d.mu.Lock()
	d.unsaved++
	due := d.unsaved%pruneEvery == 1
	d.mu.Unlock()
	if !due {
		return nil
	}
	_, err := db.ExecContext(ctx, "DELETE FROM start WHERE id <= (SELECT max(id) FROM start) - ? OR began < ?", mostStarts, time.Now().Add(-mostAge).UnixMilli())
	return err
}

// Summary is a start without what its services did.
type Summary struct {
	ID       int64         `json:"id"`
	Began    time.Time     `json:"began"`
	Took     float64       `json:"took_ms"`
	Result   starts.Result `json:"result"`
	Cold     bool          `json:"cold"`
	Services int           `json:"services"` // how many
}

// List returns the latest starts, the newest last.
func (d *DB) List(ctx context.Context, n int) ([]Summary, error) {
	out := []Summary{}
	err := d.with(ctx, false, func(db *sql.DB) error {
		rows, err := db.QueryContext(ctx, "SELECT * FROM (SELECT id, began, took, result, cold, number FROM start ORDER BY id DESC LIMIT ?) ORDER BY id", n)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var s Summary
			var began int64
			if err := rows.Scan(&s.ID, &began, &s.Took, &s.Result, &s.Cold, &s.Services); err != nil {
				return err
			}
			s.Began = time.UnixMilli(began)
			if s.Result == starts.UnderWay {
				s.Result = starts.Cancelled
			}
			out = append(out, s)
		}
		return rows.Err()
	})
	if errors.Is(err, ErrNone) {
		return out, nil
	}
	return out, err
}

// Start returns one start, or ErrNone.
func (d *DB) Start(ctx context.Context, id int64) (*starts.Start, error) {
	all, err := d.read(ctx, "SELECT id, detail FROM start WHERE id = ?", id)
	if err == nil && len(all) == 0 {
		err = ErrNone
	}
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Before returns the latest starts before one, the newest first.
func (d *DB) Before(ctx context.Context, id int64, n int) ([]*starts.Start, error) {
	all, err := d.read(ctx, "SELECT id, detail FROM start WHERE id < ? ORDER BY id DESC LIMIT ?", id, n)
	if errors.Is(err, ErrNone) {
		err = nil
	}
	return all, err
}

func (d *DB) read(ctx context.Context, query string, args ...any) (all []*starts.Start, err error) {
	err = d.with(ctx, false, func(db *sql.DB) error {
		all = nil
		rows, err := db.QueryContext(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var id int64
			var detail []byte
			if err := rows.Scan(&id, &detail); err != nil {
				return err
			}
			s := &starts.Start{}
			if json.Unmarshal(detail, s) != nil {
				continue // it may be of another version
			}
			s.ID = id
			if s.Result == starts.UnderWay { // a draft whose keeper was killed
				s.Cancel(s.Took, "its keeper was killed")
			}
			all = append(all, s)
		}
		return rows.Err()
	})
	return all, err
}

// Declared keeps the digests of the declaration's keys, by "service.key", and
// returns those that are others, or no longer there, than when this was last
// called; nothing the first time.
func (d *DB) Declared(ctx context.Context, now map[string]string) (changed []string, err error) {
	err = d.with(ctx, true, func(db *sql.DB) error {
		changed = nil
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		was := map[string]string{}
		rows, err := tx.QueryContext(ctx, "SELECT key, digest FROM declared")
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var key, digest string
			if err := rows.Scan(&key, &digest); err != nil {
				return err
			}
			was[key] = digest
		}
		if err := rows.Err(); err != nil {
			return err
		}
		first := len(was) == 0
		for key, digest := range now {
			if was[key] == digest {
				delete(was, key)
				continue
			}
			delete(was, key)
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO declared (key, digest) VALUES (?, ?)", key, digest); err != nil {
				return err
			}
			if !first {
				changed = append(changed, key)
			}
		}
		for key := range was {
			if _, err := tx.ExecContext(ctx, "DELETE FROM declared WHERE key = ?", key); err != nil {
				return err
			}
			changed = append(changed, key)
		}
		return tx.Commit()
	})
	return changed, err
}

// Compared is how many earlier starts one is compared with at most.
const Compared = 60

// Report tells how a start went, beside those before it; the number 0 is the
// latest. It fails with ErrNone if there is no such start.
func (d *DB) Report(ctx context.Context, id int64) (starts.Report, error) {
	if id == 0 {
		list, err := d.List(ctx, 1)
		if err != nil {
			return starts.Report{}, err
		}
		if len(list) == 0 {
			return starts.Report{}, ErrNone
		}
		id = list[0].ID
	}
	s, err := d.Start(ctx, id)
	if err != nil {
		return starts.Report{}, err
	}
	earlier, err := d.Before(ctx, id, Compared)
	if err != nil {
		return starts.Report{}, err
	}
	return starts.NewReport(s, earlier, time.Now()), nil
}
