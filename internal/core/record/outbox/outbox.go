// Package outbox keeps what is to be sent until it has arrived: events, each of a sender, in a
// SQLite file. Each is sent at least once, those of a key in their order, and again with a
// back-off if that fails; one that was tried too often is put aside until somebody decides.
package outbox

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// Event is something that has happened and is to be told.
type Event struct {
	// Source tells it from others of its sender, so that one which is told twice is sent
	// once; "" is another each time.
	Source string
	// Key is what it is about: events of a key are sent one after another.
	Key string
	// Type says what has happened: "insert". Subject says to what, in a few words.
	Type, Subject string
	// At is when it happened; zero: now.
	At time.Time
	// Data is what there is to know, as JSON.
	Data json.RawMessage
}

// State says how far an event is.
type State int

// The states.
const (
	Waiting State = iota
	Done
	Aside // given up, until somebody decides
	Dropped
)

func (s State) String() string {
	return [...]string{"waiting", "done", "aside", "dropped"}[s]
}

// Delivery is an event on its way, or there.
type Delivery struct {
	// ID is a number that grows: when the event was added, in microseconds since 1970, or one
	// that follows.
	ID     int64
	Sender string
	Event
	State State
	// Tries is how often it was sent, Due when it is to be sent next.
	Tries int
	Due   time.Time
	// Began is when it was sent last, Took how long that took.
	Began time.Time
	Took  time.Duration
	// By says who had it sent, if that was not what happened.
	By string
	// DataSize and AnswerSize are how long the data and the kept answer are, in bytes.
	DataSize, AnswerSize int64
	Outcome
}

// Outcome is what became of a try.
type Outcome struct {
	// Status is that of an answer by HTTP; 0 if there was none.
	Status int
	// Answer is the beginning of what was answered.
	Answer []byte
	// Problem says why it has not arrived; "" says that it has.
	Problem string
	// Request is what was sent, if that is more than the event.
	Request []byte
	// Waited is how much of the time it waited before it was sent.
	Waited time.Duration
	// Again says when to try once more, if whoever refused it said so.
	Again time.Duration
	// Never says that to try again is of no use.
	Never bool
}

// answerLimit is how much of an answer is kept, in bytes.
const answerLimit = 32 << 10

// mostDone is how many events of a sender are kept that have arrived, and mostDoneBytes how much
// of them.
const (
	mostDone      = 1000
	mostDoneBytes = 64 << 20
)

// MostHeld is how many events of a sender may wait or be put aside, and mostHeldBytes how much of
// them. Add waits until there is room.
const (
	MostHeld      = 100_000
	mostHeldBytes = 1 << 30
)

// Box is an outbox. Its methods may be called at the same time; a file is one process's.
type Box struct {
	db   *sql.DB
	most int   // how many events of a sender may wait or be put aside
	size int64 // the same in bytes
	done int   // how many bytes are kept of those of a sender that have arrived
	last int64

	mu      sync.Mutex
	senders map[string]*sender
	changed chan struct{}
}

const schema = `
CREATE TABLE IF NOT EXISTS event (
	id      INTEGER PRIMARY KEY, -- microseconds since 1970, or one more than the one before
	sender  TEXT NOT NULL,
	source  TEXT,             -- NULL is another each time
	key     TEXT NOT NULL,
	type    TEXT NOT NULL,
	subject TEXT NOT NULL,
	at      INTEGER NOT NULL, -- milliseconds since 1970
	data    BLOB,
	state   INTEGER NOT NULL,
	tries   INTEGER NOT NULL DEFAULT 0,
	due     INTEGER NOT NULL, -- milliseconds since 1970
	began   INTEGER NOT NULL DEFAULT 0, -- microseconds since 1970
	took    INTEGER NOT NULL DEFAULT 0, -- microseconds
	who     TEXT NOT NULL DEFAULT '',
	status  INTEGER NOT NULL DEFAULT 0,
	answer  BLOB,
	request BLOB,
	problem TEXT NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX IF NOT EXISTS source ON event (sender, source);
CREATE INDEX IF NOT EXISTS state ON event (sender, state, id);
CREATE TABLE IF NOT EXISTS sender (
	name   TEXT PRIMARY KEY,
	cursor TEXT NOT NULL DEFAULT '',
	paused TEXT NOT NULL DEFAULT ''
);
PRAGMA user_version = 1;
`

const version = 1

// Open opens the outbox in a file, which is made if it isn't there.
func Open(path string) (*Box, error) {
	source := "file:" + (&url.URL{Path: path}).EscapedPath() + "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=cache_size(-1024)&_txlock=immediate"
	db, err := sql.Open("sqlite", source)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	var has int
	if err := db.QueryRow("PRAGMA user_version").Scan(&has); err != nil {
		return nil, errors.Join(fmt.Errorf("%s can't be read: %w; if it is damaged, move it away, and what waits in it is lost", path, err), db.Close())
	}
	if has > version {
		return nil, errors.Join(fmt.Errorf("%s was made by a newer Neighbour", path), db.Close())
	}
	if _, err := db.Exec(schema); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	_ = os.Chmod(path, 0o600)
	var last int64
	if err := db.QueryRow("SELECT coalesce(max(id), 0) FROM event").Scan(&last); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return &Box{db: db, last: last, most: MostHeld, size: mostHeldBytes, done: mostDoneBytes, senders: map[string]*sender{}}, nil
}

// Close closes the file.
func (b *Box) Close() error { return b.db.Close() }

// Changed returns what is closed when an event comes, or is sent.
func (b *Box) Changed() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.changed == nil {
		b.changed = make(chan struct{})
	}
	return b.changed
}

// tell wakes who waits for a change. The lock is held.
func (b *Box) tell() {
	if b.changed != nil {
		close(b.changed)
		b.changed = nil
	}
}

// of returns a sender, with what waits in the file. The lock is held.
func (b *Box) of(name string) (*sender, error) {
	if s := b.senders[name]; s != nil {
		return s, nil
	}
	s := &sender{name: name, keys: map[string][]int64{}, held: map[int64]int64{}, due: map[int64]time.Time{}, wake: make(chan struct{}, 1), room: make(chan struct{}, 1)}
	err := b.db.QueryRow("SELECT cursor, paused FROM sender WHERE name = ?", name).Scan(&s.cursor, &s.paused)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	rows, err := b.db.Query("SELECT id, key, due, state, coalesce(length(data), 0) FROM event WHERE sender = ? AND state IN (?, ?) ORDER BY id", name, Waiting, Aside)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, due, size int64
		var key string
		var state State
		if err := rows.Scan(&id, &key, &due, &state, &size); err != nil {
			return nil, err
		}
		s.hold(id, size)
		if state == Waiting {
			s.put(id, key, time.UnixMilli(due))
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	b.senders[name] = s
	return s, nil
}

// Cursor returns the place of a sender's source up to which events were added.
func (b *Box) Cursor(name string) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(name)
	if err != nil {
		return "", err
	}
	return s.cursor, nil
}

// Add adds events of a sender, and remembers up to which place of its source they go, both or
// neither. It waits while there are too many.
func (b *Box) Add(ctx context.Context, name string, events []Event, cursor string) error {
	for {
		b.mu.Lock()
		s, err := b.of(name)
		if err != nil {
			b.mu.Unlock()
			return err
		}
		if !b.full(s) {
			err = b.add(ctx, s, events, cursor, "")
			b.mu.Unlock()
			return err
		}
		b.mu.Unlock()
		select {
		case <-s.room:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// full reports whether a sender holds as much as it may. The lock is held.
func (b *Box) full(s *sender) bool { return len(s.held) >= b.most || s.bytes >= b.size }

// ErrFull says that a sender holds as many events as it may.
var ErrFull = errors.New("too many events wait or were put aside; have them sent, or drop them")

// Fire adds an event that somebody wants to be sent, and returns its number. It fails with ErrFull
// if there are too many.
func (b *Box) Fire(ctx context.Context, name, by string, e Event) (int64, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(name)
	if err != nil {
		return 0, err
	}
	if b.full(s) {
		return 0, ErrFull
	}
	e.Source = ""
	if err := b.add(ctx, s, []Event{e}, s.cursor, by); err != nil {
		return 0, err
	}
	return s.last, nil
}

// add adds events. The lock is held.
func (b *Box) add(ctx context.Context, s *sender, events []Event, cursor, by string) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	type added struct {
		id, size int64
		key      string
	}
	var fresh []added
	now := time.Now()
	insert, err := tx.Prepare("INSERT OR IGNORE INTO event (id, sender, source, key, type, subject, at, data, state, due, who) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	defer insert.Close()
	for _, e := range events {
		var source any
		if e.Source != "" {
			source = e.Source
		}
		if e.At.IsZero() {
			e.At = now
		}
		id := max(b.last+1, now.UnixMicro())
		r, err := insert.Exec(id, s.name, source, e.Key, e.Type, e.Subject, e.At.UnixMilli(), []byte(e.Data), Waiting, now.UnixMilli(), by)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			continue
		}
		b.last = id
		fresh = append(fresh, added{id, int64(len(e.Data)), e.Key})
	}
	if cursor != s.cursor {
		if _, err := tx.Exec("INSERT INTO sender (name, cursor) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET cursor = excluded.cursor", s.name, cursor); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	s.cursor = cursor
	for _, f := range fresh {
		s.hold(f.id, f.size)
		s.put(f.id, f.key, now)
		s.last = f.id
	}
	if len(fresh) > 0 {
		s.stir()
		b.tell()
	}
	return nil
}

// Pause has nothing of a sender be sent any more, for a reason; "" has it go on.
func (b *Box) Pause(name, why string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(name)
	if err != nil {
		return err
	}
	if _, err := b.db.Exec("INSERT INTO sender (name, paused) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET paused = excluded.paused", name, why); err != nil {
		return err
	}
	s.paused = why
	s.stir()
	b.tell()
	return nil
}

// ErrNone says that there is no such event.
var ErrNone = errors.New("there is no such event any more")

// Retry has an event that was put aside or has arrived be sent once more. One that was put
// aside stays the same event; one that has arrived becomes another.
func (b *Box) Retry(ctx context.Context, id int64, by string) (int64, error) {
	d, err := b.Get(id)
	if err != nil {
		return 0, err
	}
	if d.State == Done || d.State == Dropped {
		return b.Fire(ctx, d.Sender, by, d.Event)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(d.Sender)
	if err != nil {
		return 0, err
	}
	now := time.Now()
	if _, err := b.db.Exec("UPDATE event SET state = ?, tries = 0, due = ? WHERE id = ?", Waiting, now.UnixMilli(), id); err != nil {
		return 0, err
	}
	if _, waits := s.due[id]; waits {
		s.due[id] = now
	} else {
		s.put(id, d.Key, now)
	}
	s.stir()
	b.tell()
	return id, nil
}

// Drop has an event that waits, or was put aside, not be sent any more.
func (b *Box) Drop(id int64) error {
	d, err := b.Get(id)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(d.Sender)
	if err != nil {
		return err
	}
	if s.flying[id] {
		return errors.New("it is being sent just now")
	}
	if _, err := b.db.Exec("UPDATE event SET state = ? WHERE id = ? AND state <> ?", Dropped, id, Done); err != nil {
		return err
	}
	s.take(id, d.Key)
	s.release(id)
	b.tell()
	return nil
}
