// Package sqlite is the kind of a database that is a file. There is no process:
// it is ready when the file can be opened.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	_ "modernc.org/sqlite" // the driver

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	File       declare.Word `toml:"file" doc:"the file, from the declaration's folder; left out: one that Neighbour keeps with its other data"`
	Migrations declare.Word `toml:"migrations" doc:"a folder of *.sql files to run in it, in the order of their numbers and names, each once"`
	Seed       declare.Seed `toml:"seed" doc:"what fills fresh data, once, after the migrations: an SQL file, or { run = \"node seed.js\", with = \"api\" }"`
}

// Scripts returns what changes the database.
func (s *Settings) Scripts() declare.Scripts {
	return declare.Scripts{Migrations: s.Migrations, Seed: s.Seed}
}

// Check reports a file that leaves the project.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if f := s.File.Value; f != "" && !filepath.IsAbs(f) && !filepath.IsLocal(f) {
		report("file", fmt.Sprintf("%q leaves the project", f), "write a path in the project's folder, or the whole path if it is meant")
	}
}

const example = `
[service.ledger]
kind = "sqlite"
file = "db/toolshed.db"
migrations = "db/changes"

[service.api]
run = "node server.js"
env.DATABASE_FILE = "${ledger.path}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "sqlite", Changes: []string{"insert"}, ChangesByKey: true, Example: example, About: "SQLite", Check: "opens the file", NoProcess: true, Facts: []string{"url", "path"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find finds nothing, since nothing is started.
func (Kind) Find(*kind.Instance) (kind.Program, error) { return kind.Program{}, nil }

// Launch starts nothing.
func (Kind) Launch(*kind.Instance) (kind.Launch, error) { return kind.Launch{}, nil }

// path returns the database's file.
func path(in *kind.Instance) string {
	f := in.Service.Settings.(*Settings).File.Value
	switch {
	case f == "":
		return filepath.Join(in.Data, in.Service.Name+".db")
	case in.Copy: // the file that is declared is the project's
		return filepath.Join(in.Data, filepath.Base(f))
	case filepath.IsAbs(f):
		return f
	}
	return filepath.Join(in.Root, f)
}

// Facts returns the file. The address has an empty host and the whole path after
// it, as addresses of files have (RFC 8089).
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	u := url.URL{Path: path(in)}
	return map[string]kind.Fact{"url": {Value: "sqlite://" + u.EscapedPath()}, "path": {Value: path(in)}}, nil
}

// Holds reports whether there is a database already.
func (Kind) Holds(in *kind.Instance) bool {
	info, err := os.Stat(path(in))
	return err == nil && info.Size() > 0
}

// Files returns those that the database is kept in.
func (Kind) Files(in *kind.Instance) []string {
	p := path(in)
	return []string{p, p + "-wal", p + "-shm", p + "-journal"}
}

// Prepare makes the folder of the file.
func (Kind) Prepare(_ context.Context, in *kind.Instance, _ func(string)) error {
	if err := checkLinks(in); err != nil {
		return err
	}
	return os.MkdirAll(filepath.Dir(path(in)), 0o755)
}

// checkLinks makes sure that a file in the project is one: a link that came with
// the project must not lead elsewhere.
func checkLinks(in *kind.Instance) error {
	if f := in.Service.Settings.(*Settings).File.Value; f == "" || filepath.IsAbs(f) {
		return nil
	}
	root, err := filepath.EvalSymlinks(in.Root)
	if err != nil {
		return err
	}
	for p := path(in); strings.HasPrefix(p, in.Root+string(filepath.Separator)); p = filepath.Dir(p) {
		real, err := filepath.EvalSymlinks(p)
		if errors.Is(err, fs.ErrNotExist) {
			if target, err := os.Readlink(p); err == nil {
				return fmt.Errorf("%s is a link to %s, which doesn't exist; remove it, or write the whole path if it is meant", p, target)
			}
			continue
		}
		if err != nil {
			return err
		}
		if rel, err := filepath.Rel(root, real); err != nil || !filepath.IsLocal(rel) {
			return fmt.Errorf("%s leads through a link to %s, outside the project; write the whole path if it is meant", path(in), real)
		}
		return nil
	}
	return nil
}

// open opens the database, and makes it if it isn't there.
func open(in *kind.Instance) (*sql.DB, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", OmitHost: true, Path: path(in)}).String())
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// Probe returns a check that opens the file and reads its head.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		info, err := os.Stat(path(in))
		switch {
		case errors.Is(err, fs.ErrNotExist) && ctx.Err() == nil:
		case err != nil:
			return "", &probe.FinalError{Err: err}
		case info.IsDir():
			return "", &probe.FinalError{Err: fmt.Errorf("%s is a folder; correct file", path(in))}
		}
		db, err := open(in)
		if err != nil {
			return "", err
		}
		defer db.Close()
		var version int
		if err := db.QueryRowContext(ctx, "PRAGMA schema_version").Scan(&version); err != nil {
			return "", fmt.Errorf("%s can't be opened: %s", path(in), message(err))
		}
		return "it can be opened", nil
	}), nil
}

// Console returns SQLite's own client.
func (Kind) Console(in *kind.Instance) ([]string, error) {
	found := kind.Candidates("sqlite3")
	if len(found) == 0 {
		return nil, &kind.MissingError{Program: "sqlite3", Looked: "PATH", Packages: kind.Packages{Debian: "sqlite3", Homebrew: "sqlite"}}
	}
	return []string{found[0], path(in)}, nil
}

// Dump returns SQLite's own client, which writes the file as a script.
func (k Kind) Dump(in *kind.Instance, _ string) ([]string, error) {
	argv, err := k.Console(in)
	return append(argv, ".dump"), err
}

// Load returns SQLite's own client, which ends at the first mistake.
func (k Kind) Load(in *kind.Instance, _ string) ([]string, error) {
	argv, err := k.Console(in)
	if err != nil {
		return nil, err
	}
	return []string{argv[0], "-batch", "-bail", argv[1]}, nil
}

// Contents says what the database holds.
func (Kind) Contents(ctx context.Context, in *kind.Instance) ([]string, error) {
	if !(Kind{}).Holds(in) {
		return nil, nil
	}
	s, err := Kind{}.session(ctx, in)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	tables, err := s.Rows(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'")
	if err != nil {
		return nil, err
	}
	rows := 0
	for _, t := range tables {
		n, err := s.Rows(ctx, "SELECT count(*) FROM "+quote(t[0]))
		if err != nil {
			return nil, err
		}
		count, _ := strconv.Atoi(n[0][0])
		rows += count
	}
	info, err := os.Stat(path(in))
	if err != nil {
		return nil, err
	}
	return []string{kind.DatabaseContents(filepath.Base(path(in)), strconv.Itoa(len(tables)), strconv.Itoa(rows), strconv.FormatInt(info.Size(), 10))}, nil
}
