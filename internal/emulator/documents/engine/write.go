package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// sessionLife is how long an answer to a write is remembered for its being asked again.
const sessionLife = 30 * time.Minute

// Retry tells a write from others of its session, so that one which is sent again is not
// made again.
type Retry struct {
	Session []byte // empty: it is never sent again
	Number  int64
}

// Writer writes. It is used by one goroutine.
type Writer struct {
	e *Engine
	m medium
}

// medium is what a writer writes to: the file, or a transaction over it.
type medium interface {
	// collection returns a collection, nil if it isn't there and is not to be made.
	collection(ctx context.Context, s Space, create bool) (*collection, error)
	// each goes through documents as scan.each does.
	each(ctx context.Context, s *scan, do func(stored) (bool, error)) error
	// read returns a document by its number.
	read(ctx context.Context, c *collection, record int64) (bson.Raw, error)
	// put makes a document of another: none was, or is to be there, if it is nil. Its error
	// is a *WriteError if an index forbids it.
	put(ctx context.Context, c *collection, was stored, now bson.Raw, id bson.RawValue, replaced bool) error
	// whole carries out what is made as a whole, or not at all.
	whole(ctx context.Context, do func() error) error
}

// errClaimed says that a transaction has a claim on a document that is to be written.
type errClaimed struct{ by *Transaction }

func (errClaimed) Error() string { return "another transaction has written the document" }

// Write carries out what do writes, and remembers what it answers before others see any
// of it. Do may be called several times, if it has to wait for a transaction; it must not
// keep anything of a call that failed.
func (e *Engine) Write(ctx context.Context, r Retry, do func(*Writer) (bson.D, error)) (answer bson.Raw, err error) {
	for {
		answer, err = e.write(ctx, r, do)
		var claimed errClaimed
		if !errors.As(err, &claimed) {
			return answer, err
		}
		select {
		case <-claimed.by.ended:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// lock waits until nobody else writes.
func (e *Engine) lock(ctx context.Context) error {
	select {
	case <-e.writing:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (e *Engine) write(ctx context.Context, r Retry, do func(*Writer) (bson.D, error)) (answer bson.Raw, err error) {
	if err := e.lock(ctx); err != nil {
		return nil, err
	}
	defer func() { e.writing <- struct{}{} }()
	if len(r.Session) > 0 {
		if answer, err = e.answered(r); answer != nil || err != nil {
			return answer, err
		}
	}
	f := &file{e: e, latest: e.latest}
	err = f.during(func() error {
		said, err := do(&Writer{e, f})
		if err != nil {
			return err
		}
		if answer, err = bson.Marshal(said); err != nil || len(r.Session) == 0 {
			return err
		}
		return f.exec("INSERT INTO answers VALUES (?, ?, ?, ?) ON CONFLICT (session) DO UPDATE SET number = excluded.number, at = excluded.at, answer = excluded.answer", r.Session, r.Number, time.Now().UnixMilli(), []byte(answer))
	})
	if err == nil && len(r.Session) > 0 {
		if len(e.numbers) >= mostNumbers {
			clear(e.numbers)
			e.partly = true
		}
		e.numbers[string(r.Session)] = r.Number
		_ = e.expire() // it is tried again
	}
	return answer, err
}

// mostNumbers is how many sessions' latest writes are known without looking into the file.
const mostNumbers = 100_000

// expire forgets what was answered too long ago, now and then.
func (e *Engine) expire() error {
	now := time.Now()
	if now.Sub(e.expired) < sessionLife/30 {
		return nil
	}
	e.expired = now
	s, err := e.statement("DELETE FROM answers WHERE at < ? RETURNING session")
	if err != nil {
		return err
	}
	rows, err := s.Query(now.Add(-sessionLife).UnixMilli())
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var session []byte
		if err := rows.Scan(&session); err != nil {
			return err
		}
		delete(e.numbers, string(session))
	}
	return rows.Err()
}

// answered returns what was answered to a write already.
func (e *Engine) answered(r Retry) (bson.Raw, error) {
	if last, ok := e.numbers[string(r.Session)]; ok && last < r.Number || !ok && !e.partly {
		return nil, nil
	}
	s, err := e.statement("SELECT number, answer FROM answers WHERE session = ?")
	if err != nil {
		return nil, err
	}
	var number int64
	var answer []byte
	err = s.QueryRow(r.Session).Scan(&number, &answer)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, nil
	case err != nil:
		return nil, err
	case number > r.Number:
		return nil, &fault.Error{Code: 225, Name: "TransactionTooOld", Message: fmt.Sprintf("the write %d of its session came after %d", r.Number, number)}
	case number < r.Number:
		return nil, nil
	}
	return answer, nil
}

// statement returns a statement of whoever writes.
func (e *Engine) statement(text string) (*sql.Stmt, error) {
	if s := e.made[text]; s != nil {
		return s, nil
	}
	if len(e.made) > 500 {
		for text, s := range e.made {
			_ = s.Close()
			delete(e.made, text)
		}
	}
	s, err := e.writer.PrepareContext(context.Background(), text)
	if err == nil {
		e.made[text] = s
	}
	return s, err
}

// Insert adds a document, and makes its collection if it isn't there. Its error is a
// *WriteError if the document can't be added.
func (w *Writer) Insert(ctx context.Context, s Space, document bson.Raw) error {
	d, id, problem := withID(document)
	if problem != nil {
		return &WriteError{Err: problem}
	}
	c, err := w.m.collection(ctx, s, true)
	if err != nil {
		return err
	}
	return w.m.put(ctx, c, stored{}, d, id, false)
}

// found are the documents that a write is about.
func (w *Writer) found(ctx context.Context, c *collection, f Find, many bool) (all []stored, s scan, err error) {
	s, by, err := w.e.scanOf(c, f)
	if err != nil || c == nil {
		return nil, s, err
	}
	var least []byte
	held := 0
	err = w.m.each(ctx, &s, func(d stored) (bool, error) {
		if len(by) > 0 && !many {
			if key := by.Key(d.document, f.Collation); len(all) == 0 || string(key) < string(least) {
				all, least = []stored{d}, key
			}
			return true, nil
		}
		if held += len(d.document); held > 16<<20 { // it is read again
			d.document = nil
		}
		all = append(all, d)
		return many, nil
	})
	return all, s, err
}

// Update says which documents are to be changed, and how.
type Update struct {
	Find
	Update  bson.RawValue
	Filters []bson.Raw // of elements of arrays
	Many    bool       // all of them, not only the first
	Upsert  bool       // if there is none, one is made
}

// Updated says what an update did.
type Updated struct {
	Matched, Modified int
	// Upserted is the _id of the document that was made, of no type if none was.
	Upserted bson.RawValue
	// Before and After are the last document that was changed, nil where there was none, or
	// is none now.
	Before, After bson.Raw
}

// Update changes documents: all that it means, or none if one can't be changed.
func (w *Writer) Update(ctx context.Context, s Space, u Update) (done Updated, err error) {
	change, err := parseUpdate(u)
	if err != nil {
		return done, err
	}
	c, err := w.m.collection(ctx, s, false)
	if err != nil {
		return done, err
	}
	all, scanned, err := w.found(ctx, c, u.Find, u.Many)
	if err != nil {
		return done, err
	}
	err = w.m.whole(ctx, func() error {
		for _, d := range all {
			if d.document == nil {
				if d.document, err = w.m.read(ctx, c, d.record); err != nil {
					return err
				}
			}
			if err := w.change(ctx, c, d, change, scanned.filter, &done); err != nil {
				return err
			}
		}
		if len(all) == 0 && u.Upsert {
			return w.upsert(ctx, s, change, u, &done)
		}
		return nil
	})
	if err != nil {
		return Updated{}, err
	}
	return done, nil
}

// Remove takes documents away: all that a find means, or the first, and returns the last
// of them and how many they were.
func (w *Writer) Remove(ctx context.Context, s Space, f Find, many bool) (removed int, last bson.Raw, err error) {
	c, err := w.m.collection(ctx, s, false)
	if err != nil {
		return 0, nil, err
	}
	all, _, err := w.found(ctx, c, f, many)
	if err != nil {
		return 0, nil, err
	}
	err = w.m.whole(ctx, func() error {
		for _, d := range all {
			if d.document == nil {
				if d.document, err = w.m.read(ctx, c, d.record); err != nil {
					return err
				}
			}
			last = d.document
			id, _ := value.Member(d.document, "_id")
			if err := w.m.put(ctx, c, d, nil, id, false); err != nil {
				return err
			}
		}
		return nil
	})
	return len(all), last, err
}
