package migrate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/machine/words"
)

// Progress is what is done now.
type Progress struct {
	File string // its name
	At   int    // which one, counted from 1, of Of
	Of   int
	// Waits says for whom a statement waits.
	Waits string
}

// InWords says it: "007_loans.sql, 3 of 12".
func (p Progress) InWords() string {
	text := p.File
	if p.Of > 1 {
		text += fmt.Sprintf(", %d of %d", p.At, p.Of)
	}
	if p.Waits != "" {
		text += ", which waits " + p.Waits
	}
	return text
}

// LockLimit is how long a statement may wait for what another client has.
const LockLimit = 20 * time.Second

// Runner runs files in a database.
type Runner struct {
	Session
	// Report is called with what is done; may be nil.
	Report func(Progress)
	// LockLimit is how long a statement may wait for what another client has; 0:
	// the package's.
	LockLimit time.Duration

	now  Progress
	path string // of the file that runs
}

// Apply runs the files that are due, in order. It fails with an *Error.
func (r *Runner) Apply(ctx context.Context, s State, dir string, files []File) error {
	if err := s.Check(dir, files); err != nil {
		return err
	}
	pending := s.Pending(files)
	if len(pending) == 0 {
		return nil
	}
	if err := r.Make(ctx, &s); err != nil {
		return err
	}
	for i, f := range pending {
		r.progress(Progress{File: f.Name, At: i + 1, Of: len(pending)})
		if err := r.run(ctx, f.Name, f, s.record(f.Name)); err != nil {
			return err
		}
	}
	return nil
}

func (r *Runner) progress(p Progress) {
	r.now = p
	if r.Report != nil {
		r.Report(p)
	}
}

// Make creates the table, if it isn't there.
func (r *Runner) Make(ctx context.Context, s *State) error {
	if s.Made {
		return nil
	}
	if err := r.do(ctx, "CREATE TABLE IF NOT EXISTS "+Table+" (name VARCHAR(255) PRIMARY KEY, checksum VARCHAR(64) NOT NULL, statements INTEGER NOT NULL, done INTEGER NOT NULL, "+
		"doubt INTEGER NOT NULL, prefix VARCHAR(64) NOT NULL, applied_at VARCHAR(40) NOT NULL, took_ms DOUBLE PRECISION NOT NULL)"); err != nil {
		return fmt.Errorf("the table %s can't be made: %w", Table, err)
	}
	// Counted when the table is there: an end between the two changes nothing.
	tables, err := r.Tables(ctx)
	if err != nil {
		return err
	}
	s.Made, s.Fresh = true, tables <= 1
	return r.save(ctx, Record{Name: data, Statements: map[bool]int{true: 1}[s.Fresh], At: time.Now()})
}

// Seed runs a file on data that is fresh and has not been seeded.
func (r *Runner) Seed(ctx context.Context, s State, f File) error {
	if !s.Fresh || s.Seeded() {
		return nil
	}
	r.progress(Progress{File: f.Name})
	return r.run(ctx, seed, f, s.seeded)
}

// SeedBy is Seed by something else than a file. What it did is not undone if it
// fails, or is interrupted: it is called again then.
func (r *Runner) SeedBy(ctx context.Context, s State, do func() error) error {
	if !s.Fresh || s.Seeded() {
		return nil
	}
	began := time.Now()
	if err := r.save(ctx, Record{Name: seed, Statements: 1, At: began}); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return r.save(ctx, Record{Name: seed, Statements: 1, Done: 1, At: began, Took: since(began)})
}

// Interrupted reports whether a seed was begun and has not come to its end.
func (s State) Interrupted() bool { return s.seeded != nil && !s.seeded.Whole() }

func since(t time.Time) float64 { return float64(time.Since(t).Microseconds()) / 1000 }

// run runs what is left of a file. The file is one transaction with its record,
// unless something in it can't be.
func (r *Runner) run(ctx context.Context, name string, f File, before *Record) error {
	r.path = f.Path
	statements, err := sqlscript.Split(r.Dialect(), f.Text)
	var bad *sqlscript.Error
	if errors.As(err, &bad) {
		return &Error{File: f.Path, Line: bad.Line, What: bad.What}
	}
	if err != nil {
		return err
	}
	rec := Record{Name: name, Checksum: f.Checksum, Statements: len(statements), At: time.Now()}
	if before == nil && whole(r.Dialect(), statements) {
		alone, err := r.together(ctx, f, statements, rec)
		if !alone {
			return err
		}
	}
	if before != nil {
		if before.Done > len(statements) || prefix(statements[:before.Done]) != before.prefix {
			return &Error{File: f.Path, What: fmt.Sprintf("its first %s ran already, and were changed since", words.Count(before.Done, "statement")),
				Remedy: "put them back as they were and change only what comes after, or empty the database", Anew: true}
		}
		rec.Done, rec.doubt, rec.prefix = before.Done, before.doubt, before.prefix
	}
	return r.oneByOne(ctx, f, statements, rec)
}

// whole reports whether all statements can be one transaction, as far as that can
// be seen.
func whole(d sqlscript.Dialect, statements []sqlscript.Statement) bool {
	return d != sqlscript.MariaDB && !slices.ContainsFunc(statements, func(s sqlscript.Statement) bool {
		return s.Control() != sqlscript.None || s.First() == "PRAGMA"
	})
}

// together runs the statements and the record as one transaction. It undoes all
// and returns alone if one of them can't be part of that.
func (r *Runner) together(ctx context.Context, f File, statements []sqlscript.Statement, rec Record) (alone bool, err error) {
	if err := r.do(ctx, "BEGIN"); err != nil {
		return false, r.explain(f, 0, err)
	}
	undo := func() { _ = r.do(context.WithoutCancel(ctx), "ROLLBACK") }
	for i, s := range statements {
		if err := r.exec(ctx, s); err != nil {
			undo()
			var refused *ServerError
			if errors.As(err, &refused) && refused.Alone {
				return true, nil
			}
			return false, undone(r.explain(f, s.Line, err), i)
		}
	}
	rec.Done, rec.Took = rec.Statements, since(rec.At)
	if err := r.save(ctx, rec); err != nil {
		undo()
		return false, r.explain(f, 0, err)
	}
	if err := r.do(ctx, "COMMIT"); err != nil { // what was deferred until now
		undo()
		return false, r.explain(f, 0, err)
	}
	return false, nil
}

// undone adds to an error that nothing of the file is left.
func undone(err error, before int) error {
	var e *Error
	if errors.As(err, &e) && before > 0 {
		e.Remedy = strings.TrimPrefix(e.Remedy+"; ", "; ") + "nothing of the file is left in the database: correct it and start again"
	}
	return err
}

// oneByOne runs the statements that are left, and records each: in a transaction
// with it where that is possible. Of one that makes its own end of the
// transaction, it is noted before that it begins; whether it has run is seen by
// trying again.
func (r *Runner) oneByOne(ctx context.Context, f File, statements []sqlscript.Statement, rec Record) error {
	began := time.Now()
	inside := false // a transaction of the file's own
	doubt := rec.doubt
	took := rec.Took
	done := func(i int, in bool) error {
		rec.Done, rec.doubt, rec.prefix, rec.Took = i+1, false, prefix(statements[:i+1]), took+since(began)
		if err := r.save(ctx, rec); err != nil {
			return r.explain(f, statements[i].Line, err)
		}
		return nil
	}
	if rec.Done == 0 && len(statements) == 0 {
		return r.explain(f, 0, r.save(ctx, rec))
	}
	kept := rec.Done
	for i := rec.Done; i < len(statements); i++ {
		s := statements[i]
		control := s.Control()
		switch {
		case inside && control == sqlscript.End: // all of it with its record, or nothing
			if s.First() != "ROLLBACK" && s.First() != "ABORT" {
				if err := done(i, true); err != nil {
					return err
				}
				if err := r.exec(ctx, s); err != nil {
					return r.halfway(f, s, err, kept)
				}
			} else {
				if err := r.exec(ctx, s); err != nil {
					return r.halfway(f, s, err, kept)
				}
				if err := done(i, false); err != nil {
					return err
				}
			}
			inside, kept = false, i+1
		case inside || control == sqlscript.Begin:
			if err := r.exec(ctx, s); err != nil {
				_ = r.do(context.WithoutCancel(ctx), "ROLLBACK")
				return r.halfway(f, s, err, kept)
			}
			inside = true
		case r.withRecord(s):
			if err := r.do(ctx, "BEGIN"); err != nil {
				return r.explain(f, s.Line, err)
			}
			err := r.exec(ctx, s)
			if err == nil {
				err = done(i, true)
			}
			if err == nil {
				err = r.do(ctx, "COMMIT")
			}
			var refused *ServerError
			if err != nil {
				_ = r.do(context.WithoutCancel(ctx), "ROLLBACK")
			}
			switch {
			case errors.As(err, &refused) && refused.Alone:
				if err := r.alone(ctx, f, statements, i, &rec, doubt); err != nil {
					return err
				}
				if err := done(i, false); err != nil {
					return err
				}
			case err != nil:
				return r.halfway(f, s, err, kept)
			}
			kept = i + 1
		default:
			if err := r.alone(ctx, f, statements, i, &rec, doubt); err != nil {
				return err
			}
			if err := done(i, false); err != nil {
				return err
			}
			kept = i + 1
		}
		doubt = false
	}
	if inside {
		_ = r.do(context.WithoutCancel(ctx), "ROLLBACK")
		return &Error{File: f.Path, What: "it begins a transaction and does not end it", Remedy: "add COMMIT; at its end, or leave BEGIN out"}
	}
	return nil
}

// withRecord reports whether a statement can be in one transaction with its record
// as far as its first word tells.
func (r *Runner) withRecord(s sqlscript.Statement) bool {
	switch r.Dialect() {
	case sqlscript.MariaDB:
		return slices.Contains([]string{"INSERT", "UPDATE", "DELETE", "REPLACE", "SELECT", "WITH", "DO"}, s.First())
	case sqlscript.SQLite:
		return s.First() != "PRAGMA"
	}
	return true
}

// alone runs a statement that ends the transaction it is in. In doubt it may have
// run already, and then it is no mistake that what it makes is there.
func (r *Runner) alone(ctx context.Context, f File, statements []sqlscript.Statement, i int, rec *Record, doubt bool) error {
	rec.Done, rec.doubt, rec.prefix = i, true, prefix(statements[:i])
	if err := r.save(ctx, *rec); err != nil {
		return r.explain(f, statements[i].Line, err)
	}
	err := r.exec(ctx, statements[i])
	var refused *ServerError
	if doubt && errors.As(err, &refused) && refused.done(statements[i].First()) {
		return nil
	}
	if err == nil {
		return nil
	}
	if errors.As(err, &refused) { // the server is there, and has not done it
		rec.doubt = false
		_ = r.save(context.WithoutCancel(ctx), *rec)
	}
	return r.halfway(f, statements[i], err, i)
}

// halfway explains the failure of a statement after others that stay.
func (r *Runner) halfway(f File, s sqlscript.Statement, err error, kept int) error {
	err = r.explain(f, s.Line, err)
	var e *Error
	if errors.As(err, &e) && kept > 0 {
		e.Remedy = strings.TrimPrefix(e.Remedy+"; ", "; ") + fmt.Sprintf("the %s before it ran and stay: correct the file from there on and start again", words.Count(kept, "statement"))
	}
	return err
}

// explain makes a server's refusal an *Error with its place.
func (r *Runner) explain(f File, line int, err error) error {
	var refused *ServerError
	var already *Error
	switch {
	case err == nil, errors.As(err, &already):
		return err
	case errors.As(err, &refused):
		if line > 0 {
			line += refused.Line
		}
		return &Error{File: f.Path, Line: line, What: refused.Message}
	}
	return fmt.Errorf("%s: %w", f.Path, err)
}

func prefix(statements []sqlscript.Statement) string {
	sum := sha256.New()
	for _, s := range statements {
		fmt.Fprintf(sum, "%d %s%d %s", len(s.Text), s.Text, len(s.Data), s.Data)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

func (r *Runner) do(ctx context.Context, statement string) error {
	return r.exec(ctx, sqlscript.Statement{Text: statement})
}

// exec carries out a statement. While that takes long it is looked whether it
// waits for somebody, which is told, and limited.
func (r *Runner) exec(ctx context.Context, s sqlscript.Statement) error {
	limited, cancel := context.WithCancel(ctx)
	defer cancel()
	limit := r.LockLimit
	if limit == 0 {
		limit = LockLimit
	}
	watched := make(chan string, 1) // for whom it waited when it was given up
	stop := make(chan struct{})
	watch := time.AfterFunc(min(time.Second, limit/2), func() {
		began, waits := time.Time{}, ""
		for {
			now := r.Waits(limited)
			switch {
			case now == "":
				began = time.Time{}
			case began.IsZero():
				began = time.Now()
			case time.Since(began) > limit:
				watched <- now
				cancel()
				return
			}
			if now != waits {
				waits = now
				p := r.now
				p.Waits = waits
				if r.Report != nil {
					r.Report(p)
				}
			}
			select {
			case <-time.After(min(500*time.Millisecond, limit/4)):
			case <-stop:
				return
			case <-limited.Done():
				return
			}
		}
	})
	err := r.Exec(limited, s)
	watch.Stop()
	close(stop)
	select {
	case waits := <-watched:
		return &Error{File: r.path, Line: s.Line, What: fmt.Sprintf("it waited %s %s", words.Limit(limit), waits), Remedy: "end what that client does, and start again"}
	default:
	}
	return err
}

// save keeps a record in the place of what is known of its file.
func (r *Runner) save(ctx context.Context, rec Record) error {
	doubt := 0
	if rec.doubt {
		doubt = 1
	}
	values := fmt.Sprintf("'%s', %d, %d, %d, '%s', '%s', %f", rec.Checksum, rec.Statements, rec.Done, doubt, rec.prefix, rec.At.UTC().Format(time.RFC3339), rec.Took)
	name := strings.ReplaceAll(rec.Name, "'", "''")
	insert := fmt.Sprintf("INSERT INTO %s (name, checksum, statements, done, doubt, prefix, applied_at, took_ms) VALUES ('%s', %s)", Table, name, values)
	if r.Dialect() == sqlscript.MariaDB {
		return r.do(ctx, strings.Replace(strings.ReplaceAll(insert, `\`, `\\`), "INSERT", "REPLACE", 1))
	}
	return r.do(ctx, insert+" ON CONFLICT (name) DO UPDATE SET checksum = excluded.checksum, statements = excluded.statements, done = excluded.done, doubt = excluded.doubt, "+
		"prefix = excluded.prefix, applied_at = excluded.applied_at, took_ms = excluded.took_ms")
}
