package migrate_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/kinds/sqlite"
)

func TestMain(m *testing.M) {
	goleak.VerifyTestMain(m, goleak.IgnoreTopFunction("database/sql.(*DB).connectionOpener"))
}

// database is a folder of migrations with a database that they change.
type database struct {
	t   *testing.T
	dir string
	in  *kind.Instance
}

func newDatabase(t *testing.T) *database {
	d := &database{t: t, dir: t.TempDir()}
	d.in = &kind.Instance{Root: d.dir, Service: &declare.Service{Settings: &sqlite.Settings{File: declare.Word{Value: "app.db"}}}}
	return d
}

func (d *database) write(name, text string) {
	d.t.Helper()
	path := filepath.Join(d.dir, "changes", name)
	require.NoError(d.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(d.t, os.WriteFile(path, []byte(text), 0o644))
}

func (d *database) apply(change ...func(*migrate.Runner)) error {
	d.t.Helper()
	session, err := sqlite.Kind{}.Session(d.t.Context(), d.in)
	require.NoError(d.t, err)
	defer session.Close()
	files, err := migrate.ReadDir(d.dir, "changes")
	if err != nil {
		return err
	}
	state, err := migrate.Look(d.t.Context(), session)
	require.NoError(d.t, err)
	r := &migrate.Runner{Session: session}
	for _, c := range change {
		c(r)
	}
	return r.Apply(d.t.Context(), state, "changes", files)
}

func (d *database) value(query string) string {
	d.t.Helper()
	session, err := sqlite.Kind{}.Session(d.t.Context(), d.in)
	require.NoError(d.t, err)
	defer session.Close()
	rows, err := session.Rows(context.Background(), query)
	require.NoError(d.t, err)
	return rows[0][0]
}

func (d *database) remove(name string) {
	d.t.Helper()
	require.NoError(d.t, os.Remove(filepath.Join(d.dir, "changes", name)))
}

// Files with statements that can't be in a transaction, or with transactions of
// their own, are run a statement after the other, each once.
func TestFilesThatAreNoTransaction(t *testing.T) {
	d := newDatabase(t)
	d.write("1.sql", "create table a (b int);\nvacuum;\ninsert into a values (1);")
	d.write("2.sql", "pragma foreign_keys = off;\ninsert into a values (2);")
	d.write("3.sql", "begin;\ninsert into a values (3);\ninsert into a values (4);\ncommit;\ninsert into a values (5);")
	require.NoError(t, d.apply())
	require.NoError(t, d.apply())
	assert.Equal(t, "5", d.value("select count(*) from a"))

	// Of a transaction that fails nothing stays; what came before it does.
	d.write("4.sql", "vacuum;\ninsert into a values (6);\nbegin;\ninsert into a values (7);\ninsert into gone values (8);\ncommit;")
	err := d.apply()
	var e *migrate.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, "changes/4.sql:5", e.Place())
	assert.Equal(t, "no such table: gone", e.What)
	assert.Contains(t, e.Remedy, "the 2 statements before it ran and stay")
	assert.Equal(t, "6", d.value("select count(*) from a"))
	d.write("4.sql", "vacuum;\ninsert into a values (66);\nbegin;\ninsert into a values (7);\ncommit;")
	require.ErrorAs(t, d.apply(), &e)
	assert.Contains(t, e.What, "its first 2 statements ran already, and were changed since")
	d.write("4.sql", "vacuum;\ninsert into a values (6);\nbegin;\ninsert into a values (7);\ncommit;\n-- done")
	require.NoError(t, d.apply())
	assert.Equal(t, "7", d.value("select count(*) from a"))

	d.write("5.sql", "begin;\ninsert into a values (8);")
	require.ErrorAs(t, d.apply(), &e)
	assert.Contains(t, e.What, "begins a transaction and does not end it")
	assert.Equal(t, "7", d.value("select count(*) from a"))

	// A file of which nothing ran may go; of which a part ran may not.
	d.remove("5.sql")
	d.write("6.sql", "pragma foreign_keys = ;")
	require.ErrorAs(t, d.apply(), &e)
	d.remove("6.sql")
	require.NoError(t, d.apply())
	d.write("7.sql", "vacuum;\ninsert into gone values (9);")
	require.ErrorAs(t, d.apply(), &e)
	d.remove("7.sql")
	require.ErrorAs(t, d.apply(), &e)
	assert.Contains(t, e.What, "a part of it ran on")
}

// A lock that is not given in time is an error that says who has it.
func TestLockLimit(t *testing.T) {
	d := newDatabase(t)
	d.write("1.sql", "create table a (b int);")
	require.NoError(t, d.apply())
	other, err := sqlite.Kind{}.Session(t.Context(), d.in)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Exec(t.Context(), statement("begin immediate")))
	d.write("2.sql", "insert into a values (1);")
	var told []string
	err = d.apply(func(r *migrate.Runner) {
		r.LockLimit = 200 * time.Millisecond
		r.Report = func(p migrate.Progress) { told = append(told, p.InWords()) }
	})
	var e *migrate.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, "changes/2.sql", e.File)
	assert.Contains(t, e.What, "it waited 200 ms for a lock of ")
	assert.Equal(t, "2.sql", told[0])
	assert.Contains(t, told[len(told)-1], "2.sql, which waits for a lock of ")
	require.NoError(t, other.Exec(t.Context(), statement("rollback")))
	require.NoError(t, d.apply())
}

func TestNew(t *testing.T) {
	now := time.Date(2026, 11, 25, 23, 59, 1, 0, time.UTC)
	for _, c := range []struct{ last, want string }{
		{"", "001_add_loans.sql"},
		{"007_tools.sql", "008_add_loans.sql"},
		{"9_x.sql", "10_add_loans.sql"},
		{"0099-old-one.sql", "0100-add-loans.sql"},
		{"V7__tools.sql", "V8__add_loans.sql"},
		{"20240102030405_x.sql", "20261125235901_add_loans.sql"},
		{"20991231000000_x.sql", "20991231000001_add_loans.sql"},
		{"1700000000_x.sql", "1795651141_add_loans.sql"},
		{"3_x.up.sql", "4_add_loans.up.sql"},
		{"tools.sql", "001_add_loans.sql"},
	} {
		dir := t.TempDir()
		if c.last != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, c.last), nil, 0o644))
		}
		got, err := migrate.New(dir, ".", "Add loans!", now)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, c.last)
		assert.FileExists(t, filepath.Join(dir, got))
	}
	_, err := migrate.New(t.TempDir(), "a/b", "?", now)
	assert.ErrorContains(t, err, "needs letters or digits")
}

func TestOrderOfFiles(t *testing.T) {
	d := newDatabase(t)
	for _, name := range []string{"10_c.sql", "9_b.sql", "2_a.sql", "2_a.down.sql", "notes.md", ".hidden.sql"} {
		d.write(name, "select 1;")
	}
	files, err := migrate.ReadDir(d.dir, "changes")
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"2_a.sql", "9_b.sql", "10_c.sql"}, names)
	require.NoError(t, os.RemoveAll(filepath.Join(d.dir, "changes")))
	require.NoError(t, os.Mkdir(filepath.Join(d.dir, "changes"), 0o755))
	assert.ErrorContains(t, d.apply(), "changes: the folder holds no *.sql file")
}

func statement(text string) sqlscript.Statement { return sqlscript.Statement{Text: text} }
