// Package migrate brings a database's schema up to date with files of SQL, each
// of which is run once, and fills it with data to begin with. What has run is
// kept in a table in the database itself, in one transaction with it wherever
// the server can, so that an end at any moment leaves nothing done twice.
package migrate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"neighbour/internal/core/data/sqlscript"
)

// Session is one connection to a database. It is used by one goroutine at a
// time, but for Waits.
type Session interface {
	Dialect() sqlscript.Dialect
	// Exec carries out a statement. It fails with a *ServerError if the server
	// refuses it. If ctx ends, the server is told to leave it undone.
	Exec(ctx context.Context, s sqlscript.Statement) error
	// Rows returns the rows of a query, their values as text.
	Rows(ctx context.Context, query string) ([][]string, error)
	// Tables returns how many tables there are.
	Tables(ctx context.Context) (int, error)
	// Waits says for what the session waits and who has it, "" if it doesn't
	// wait. It uses a connection of its own.
	Waits(ctx context.Context) string
	Close() error
}

// ServerError is a server's refusal of a statement.
type ServerError struct {
	Message string
	Line    int // of the statement, counted from 0
	// NoTable says that a table isn't there, Exists that what is to be made is
	// there already, Gone that what is to be changed or removed isn't there,
	// Alone that the statement can't be part of a transaction.
	NoTable, Exists, Gone, Alone bool
}

func (e *ServerError) Error() string { return e.Message }

// done reports whether the refusal shows that the statement was carried out
// before.
func (e *ServerError) done(first string) bool {
	switch first {
	case "CREATE":
		return e.Exists
	case "DROP", "RENAME":
		return e.Gone
	case "ALTER":
		return e.Exists || e.Gone && !e.NoTable
	}
	return false
}

// Error is what is wrong with a migration or a seed.
type Error struct {
	File   string
	Line   int // counted from 1; 0: the whole file
	What   string
	Remedy string
	// Anew says that emptying the database would do, too.
	Anew bool
	// More are other problems of the same kind, found together.
	More []*Error
}

// Place is the file, with the line if there is one: "db/changes/3.sql:14".
func (e *Error) Place() string {
	if e.Line > 0 {
		return e.File + ":" + strconv.Itoa(e.Line)
	}
	return e.File
}

func (e *Error) Error() string { return e.Place() + ": " + e.What }

// Table is where it is kept what has run.
const Table = "neighbour_migrations"

const (
	// data is the row that says what the data was like before anything ran.
	data = "(data)"
	// seed is the row of the seed.
	seed = "(seed)"
)

// Record is what is known of a file that has run, or of which a part has.
type Record struct {
	Name       string
	Checksum   string
	Statements int
	Done       int // how many of them ran
	// doubt says that the one after those was begun, and may have run or not.
	doubt bool
	// prefix is the checksum of those that ran.
	prefix string
	At     time.Time
	Took   float64 // in milliseconds
}

// Began reports whether anything of the file is or may be in the database.
func (r Record) Began() bool { return r.Done > 0 || r.doubt || r.Whole() }

// Whole reports whether all of the file ran.
func (r Record) Whole() bool { return r.Done >= r.Statements }

// State is what a database knows of migrations.
type State struct {
	Records []Record // of migrations, in the order of their names
	// Made says that the table is there, with what the data was like before.
	Made bool
	// Fresh says that the database was empty before anything ran.
	Fresh  bool
	seeded *Record
}

// Seeded reports whether the seed has run.
func (s State) Seeded() bool { return s.seeded != nil && s.seeded.Whole() }

func (s State) record(name string) *Record {
	if i := slices.IndexFunc(s.Records, func(r Record) bool { return r.Name == name }); i >= 0 {
		return &s.Records[i]
	}
	return nil
}

// Pending returns the files that have not run, or not to their end.
func (s State) Pending(files []File) []File {
	var out []File
	for _, f := range files {
		if r := s.record(f.Name); r == nil || !r.Whole() {
			out = append(out, f)
		}
	}
	return out
}

// Look reads what a database knows.
func Look(ctx context.Context, db Session) (State, error) {
	var s State
	rows, err := db.Rows(ctx, "SELECT name, checksum, statements, done, doubt, prefix, applied_at, took_ms FROM "+Table)
	var refused *ServerError
	if errors.As(err, &refused) && refused.NoTable {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	for _, row := range rows {
		r := Record{Name: row[0], Checksum: row[1], doubt: row[4] == "1", prefix: row[5]}
		r.Statements, _ = strconv.Atoi(row[2])
		r.Done, _ = strconv.Atoi(row[3])
		r.At, _ = time.Parse(time.RFC3339, row[6])
		r.Took, _ = strconv.ParseFloat(row[7], 64)
		switch r.Name {
		case data:
			s.Made, s.Fresh = true, r.Statements == 1
		case seed:
			s.seeded = &r
		default:
			s.Records = append(s.Records, r)
		}
	}
	slices.SortFunc(s.Records, func(a, b Record) int { return compare(a.Name, b.Name) })
	return s, nil
}

// Check compares files with what has run. It returns an *Error that names all
// that is at odds, nil if nothing is.
func (s State) Check(dir string, files []File) error {
	var found []*Error
	report := func(file, what, remedy string) {
		found = append(found, &Error{File: file, What: what, Remedy: remedy + ", or empty the database", Anew: true})
	}
	for i, f := range files {
		if i > 0 && number(f.Name) >= 0 && number(f.Name) == number(files[i-1].Name) {
			found = append(found, &Error{File: f.Path, What: "it has the same number as " + files[i-1].Name, Remedy: "give one of them the next number"})
		}
	}
	var last Record // of those that ran, in the order of the names
	for _, r := range s.Records {
		i := slices.IndexFunc(files, func(f File) bool { return f.Name == r.Name })
		switch {
		case i < 0 && !r.Began():
			// It was tried, and nothing of it is in the database.
		case i < 0 && !r.Whole():
			report(dir+"/"+r.Name, fmt.Sprintf("a part of it ran on %s (%d of %d statements), and it is gone", r.At.Local().Format("2 Jan 15:04"), r.Done, r.Statements), "put it back")
		case i < 0:
			report(dir+"/"+r.Name, "it ran on "+r.At.Local().Format("2 Jan 15:04")+" and is gone", "put it back")
		case r.Whole() && files[i].Checksum != r.Checksum:
			report(files[i].Path, "it was changed after it ran on "+r.At.Local().Format("2 Jan 15:04"), "put it back as it was and write a new one")
		}
		if r.Whole() {
			last = r
		}
	}
	for _, f := range s.Pending(files) {
		if last.Name != "" && s.record(f.Name) == nil && compare(f.Name, last.Name) < 0 {
			report(f.Path, "it comes before "+last.Name+", which ran already", "give it a number after that one")
		}
	}
	if len(found) == 0 {
		return nil
	}
	found[0].More = found[1:]
	return found[0]
}
