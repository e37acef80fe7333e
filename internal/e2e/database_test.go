package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/testkit"
)

// database is a kind that files of SQL can change, with its declaration and the
// syntax that differs.
type database struct {
	declaration, driver string
	need                []string
	wrong               string // a statement that fails on its second line
	says                string
	half                bool // what comes before it stays
}

var databases = map[string]database{
	"sqlite": {"kind = \"sqlite\"\nfile = \"app.db\"", "sqlite", nil,
		"insert into loan values (3);\nselect id from\nnowhere;", "no such table: nowhere", false},
	"postgres": {"kind = \"postgres\"\ndatabases = [\"toolshed\"]\nusers = [\"shed\"]", "pgx", []string{testkit.Postgres, "postgres"},
		"insert into loan values (3);\nselect id from\nnowhere;", `relation "nowhere" does not exist`, false},
	"mariadb": {"kind = \"mariadb\"\ndatabases = [\"toolshed\"]\nusers = [\"shed\"]", "mysql", []string{"/usr/sbin/mariadbd", "mariadbd"},
		"insert into loan values (3);\nselect id from\nnowhere;", "Table 'toolshed.nowhere' doesn't exist", true},
}

// open connects to the project's database.
func (p *project) open(driver string) *sql.DB {
	p.t.Helper()
	facts := p.status().Service["ledger"].Facts
	address := map[string]string{"pgx": facts["url"], "sqlite": facts["path"],
		"mysql": fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/toolshed", facts["user"], facts["password"], facts["port"])}[driver]
	db, err := sql.Open(driver, address)
	require.NoError(p.t, err)
	return db
}

// query returns the first column of a query's rows, joined by blanks.
func (p *project) query(driver, query string) string {
	p.t.Helper()
	db := p.open(driver)
	defer db.Close()
	rows, err := db.Query(query)
	require.NoError(p.t, err)
	defer rows.Close()
	var out []string
	for rows.Next() {
		var v string
		require.NoError(p.t, rows.Scan(&v))
		out = append(out, v)
	}
	require.NoError(p.t, rows.Err())
	return strings.Join(out, " ")
}

func (p *project) migrations() launch.Migrations {
	p.t.Helper()
	var all []launch.Migrations
	require.NoError(p.t, json.Unmarshal([]byte(p.must("migrations", "--json")), &all))
	require.Len(p.t, all, 1)
	return all[0]
}

func migrated(t testing.TB, declaration string) *project {
	p := newProject(t, "[service.ledger]\n"+declaration+"\nmigrations = \"db/changes\"\nseed = \"db/seed.sql\"\n"+
		"[service.api]\nrun = \"sleep 1000\"\nneeds = [\"ledger\"]\n")
	p.write("db/changes/001_loans.sql", "-- who has what; since when\ncreate table loan (id integer primary key);\ninsert into loan values (1);\n")
	p.write("db/changes/002_tools.sql", "create table tool (name varchar(40) primary key);")
	p.write("db/seed.sql", "insert into tool values ('drill'), ('saw; and its blade');\n")
	return p
}

func TestMigrations(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		p := migrated(t, d.declaration)
		m := p.migrations()
		assert.Equal(t, "ledger doesn't run", m.Unknown)
		p.must("start")
		assert.Equal(t, "drill saw; and its blade", p.query(d.driver, "select name from tool order by name"))
		p.must("stop")
		p.must("start")
		assert.Equal(t, "1", p.query(d.driver, "select count(*) from loan"), "each once")
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from tool"), "seeded once")

		// One fails: the database stays ready, what needs it waits, and says where.
		path := strings.TrimSpace(p.must("migrations", "new", "Third one"))
		assert.Equal(t, "db/changes/003_third_one.sql", path)
		p.write(path, d.wrong)
		p.must("stop", "api")
		r := p.run("start")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.stderr, "its migrations failed: db/changes/003_third_one.sql:")
		assert.Contains(t, r.stderr, d.says)
		assert.Contains(t, r.stderr, "for ledger, whose migrations failed: db/changes/003_third_one.sql:")
		assert.Equal(t, "held", p.status().Service["ledger"].State)
		assert.Equal(t, "waiting", p.status().Service["api"].State)
		kept := "1"
		if d.half {
			kept = "2"
			assert.Contains(t, r.stderr, "the 1 statement before it ran and stay")
			assert.Equal(t, launch.MigrationHalf, p.migrations().Files[2].State)
		}
		assert.Equal(t, kept, p.query(d.driver, "select count(*) from loan"))

		// Mended, it goes on: nothing runs twice.
		p.write(path, "insert into loan values (3);\ninsert into loan values (4);")
		p.must("start")
		assert.Equal(t, "3", p.query(d.driver, "select count(*) from loan"))
		m = p.migrations()
		assert.Equal(t, "done", m.Seed)
		for _, f := range m.Files {
			assert.Equal(t, launch.MigrationApplied, f.State, f.Name)
		}
		p.write("db/changes/004_more.sql", "insert into loan values (5);")
		p.must("start")
		assert.Equal(t, "4", p.query(d.driver, "select count(*) from loan"), "also while it runs")
		assert.Contains(t, p.must("starts", "0"), "ledger")
	})
}

// Files that are at odds with what ran, each said with what to do.
func TestMigrationsAtOdds(t *testing.T) {
	t.Parallel()
	p := migrated(t, databases["sqlite"].declaration)
	p.must("start")
	first, err := os.ReadFile(filepath.Join(p.dir, "db/changes/001_loans.sql"))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		spoil, mend func()
		says        []string
	}{
		"changed": {func() { p.write("db/changes/001_loans.sql", string(first)+"-- x\n") }, func() { p.write("db/changes/001_loans.sql", string(first)) },
			[]string{"db/changes/001_loans.sql: it was changed after it ran on ", "put it back as it was and write a new one", "neighbour reset ledger empties it"}},
		"gone": {func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "db/changes/001_loans.sql"))) }, func() { p.write("db/changes/001_loans.sql", string(first)) },
			[]string{"db/changes/001_loans.sql: it ran on ", " and is gone"}},
		"same number": {func() { p.write("db/changes/002_b.sql", "select 1;") }, func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "db/changes/002_b.sql"))) },
			[]string{"it has the same number as 002_"}},
		"too early": {func() { p.write("db/changes/000_a.sql", "select 1;") }, func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "db/changes/000_a.sql"))) },
			[]string{"db/changes/000_a.sql: it comes before 002_tools.sql, which ran already"}},
		"no UTF-8": {func() { p.write("db/changes/003_l.sql", "select 1;\nselect '\xfc';") }, func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "db/changes/003_l.sql"))) },
			[]string{"db/changes/003_l.sql:2: it is not in UTF-8"}},
		"a folder": {func() { p.write("db/changes/old/0.sql", "select 1;") }, func() { require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "db/changes/old"))) },
			[]string{"db/changes/old: it is a folder with *.sql files"}},
		"a client's command": {func() { p.write("db/changes/003_l.sql", "select 1;\n.mode csv\n") }, func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "db/changes/003_l.sql"))) },
			[]string{"db/changes/003_l.sql:2: .mode is a command of sqlite3 and no SQL"}},
		"no folder": {func() {
			require.NoError(t, os.Rename(filepath.Join(p.dir, "db/changes"), filepath.Join(p.dir, "db/gone")))
		}, func() {
			require.NoError(t, os.Rename(filepath.Join(p.dir, "db/gone"), filepath.Join(p.dir, "db/changes")))
		},
			[]string{"db/changes: there is no such folder", "neighbour migrations new NAME"}},
	} {
		c.spoil()
		r := p.run("start")
		assert.Equal(t, 1, r.code, name)
		for _, s := range c.says {
			assert.Contains(t, r.stderr, s, name)
		}
		c.mend()
		assert.Zero(t, p.run("start").code, name)
	}
	p.write("neighbour.toml", "[service.ledger]\nkind = \"sqlite\"\nfile = \"other.db\"\nseed = \"db/none.sql\"\n")
	p.must("stop")
	assert.Contains(t, p.run("start").stderr, "its seed failed: db/none.sql: there is no such file")
}

// A migration that waits for another client says for whom.
func TestMigrationWaitsForALock(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		p := migrated(t, d.declaration)
		p.must("start")
		db := p.open(d.driver)
		defer db.Close()
		conn, err := db.Conn(t.Context())
		require.NoError(t, err)
		_, err = conn.ExecContext(t.Context(), map[string]string{"sqlite": "begin immediate"}[name]+map[string]string{"postgres": "begin", "mariadb": "begin"}[name])
		require.NoError(t, err)
		_, err = conn.ExecContext(t.Context(), "insert into loan values (9)")
		require.NoError(t, err)
		p.write("db/changes/003_wide.sql", "alter table loan add note integer;")
		p.must("start", "--no-wait")
		var s status
		p.eventually(func(now status) bool {
			s = now
			return strings.Contains(now.Service["ledger"].Reason, ", which waits for a lock of ")
		})
		assert.Contains(t, s.Service["ledger"].Reason, "003_wide.sql, which waits for a lock of ")
		_, err = conn.ExecContext(t.Context(), "commit")
		require.NoError(t, err)
		conn.Close()
		p.must("start")
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from loan"))
	})
}

func TestReset(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		p := migrated(t, d.declaration)
		p.write("neighbour.toml", string(must(os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))))+
			"[errand.fill]\nwith = \"api\"\nrun = \"echo filled >>filled\"\nbefore = [\"api\"]\n[errand.told]\nrun = \"echo emptied >>emptied\"\non = { reset = \"ledger\" }\n")
		p.must("start")
		p.holds("filled", "filled\n")
		db := p.open(d.driver)
		_, err := db.Exec("insert into loan values (7)")
		require.NoError(t, err)
		db.Close()
		api := p.status().Service["api"].PID

		r := p.run("reset", "ledger")
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.stderr, "on disk will be lost")
		assert.Contains(t, r.stderr, "3 tables")
		assert.Contains(t, r.stderr, "stopped for it, and started again: api")
		assert.Contains(t, r.stderr, "--yes answers it")
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from loan"), "nothing was done")

		p.must("reset", "ledger", "--yes")
		assert.Equal(t, "1", p.query(d.driver, "select count(*) from loan"))
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from tool"), "it is seeded again")
		assert.NotEqual(t, api, p.status().Service["api"].PID)
		p.holds("filled", "filled\nfilled\n") // the data is another
		p.holds("emptied", "emptied\n")
		p.must("restart", "api")
		p.holds("filled", "filled\nfilled\n")
		r = p.run("reset", "api", "--yes")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.stderr, "api is of kind program, which keeps no data of its own")
	})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// kills is how often each database is killed; NEIGHBOUR_KILLS says more.
func kills() int {
	if n, err := strconv.Atoi(os.Getenv("NEIGHBOUR_KILLS")); err == nil {
		return n
	}
	return 3
}

// Whenever keeper or server are killed, the next start ends with each migration
// and the seed done exactly once.
func TestKilledWhileMigrating(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		p := migrated(t, d.declaration)
		const files = 40
		for i := 3; i <= files; i++ {
			p.write(fmt.Sprintf("db/changes/%03d_x.sql", i), fmt.Sprintf("create table t%d (id integer primary key);\ninsert into loan values (%d);\nalter table t%d add note integer;\n", i, i, i))
		}
		p.must("start", "ledger")
		for range kills() {
			what := []string{"keeper", "server"}[rand.IntN(2)]
			if name == "sqlite" {
				what = "keeper"
			}
			before := p.status().Service["ledger"].PID
			require.NoError(t, os.WriteFile(filepath.Join(p.dir, "reset.log"), nil, 0o600))
			done := make(chan result)
			go func() { done <- p.run("reset", "ledger", "--yes") }()
			if name != "sqlite" {
				p.eventually(func(s status) bool { l := s.Service["ledger"]; return l.PID != 0 && l.PID != before })
			}
			time.Sleep(rand.N(400 * time.Millisecond))
			if s := p.status(); what == "keeper" && s.Keeper != nil {
				_ = syscall.Kill(s.Keeper.PID, syscall.SIGKILL)
			} else if pid := s.Service["ledger"].PID; pid != 0 {
				_ = syscall.Kill(pid, syscall.SIGKILL)
				p.eventually(func(s status) bool { return s.Service["ledger"].PID != pid }) // the keeper knows it
			}
			reset := <-done
			start := p.run("start", "ledger")
			require.Zero(t, start.code, "%s killed; reset: %s; start: %s\n%s", what, reset.stderr, start.stderr, readLog(p))
			assert.Equal(t, strconv.Itoa(files-1), p.query(d.driver, "select count(*) from loan"), "%s killed", what)
			assert.Equal(t, "2", p.query(d.driver, "select count(*) from tool"), "%s killed", what)
			m := p.migrations()
			for _, f := range m.Files {
				assert.Equal(t, launch.MigrationApplied, f.State, f.Name)
			}
			assert.Equal(t, "done", m.Seed)
		}
	})
}

// eachDatabase runs a test with each database whose server is there, at the same
// time.
func eachDatabase(t *testing.T, test func(t *testing.T, name string, d database)) {
	t.Parallel()
	for name, d := range databases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if len(d.need) > 0 {
				testkit.Need(t, d.need...)
			}
			test(t, name, d)
		})
	}
}

// readLog returns what the project's keepers wrote of what they did.
func readLog(p *project) string {
	data, err := os.ReadFile(p.state("logs/keeper.jsonl"))
	return fmt.Sprintf("%s%v", data, err)
}

func readFile(p *project, name string) ([]byte, error) {
	return os.ReadFile(filepath.Join(p.dir, name))
}

// Users that are declared once a database is in use may do all that its user could so far.
func TestUsersOfAnOldDatabase(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	declared := "[service.ledger]\nkind = \"postgres\"\ndatabases = [\"toolshed\", \"empty\"]\nextensions = [\"citext\"]\n"
	p := newProject(t, declared)
	p.must("start")
	for _, statement := range []string{
		`create schema "Shed 2"`, "create type state as enum ('lent', 'here')", "create domain short as text check (length(value) < 50)", "create type place as (shelf int, row int)",
		"create table tool (id int generated always as identity primary key, name citext, state state, at place, short short)", "create sequence free", `create table "Shed 2".loan (id serial primary key, tool int references tool (id)) partition by list (id)`,
		`create table "Shed 2".first partition of "Shed 2".loan for values in (1)`, "create view lent as select * from tool where state = 'lent'", "create materialized view names as select name from tool",
		"create function twice(n int) returns int language sql as 'select 2 * n'", "insert into tool (name, state) values ('Drill', 'lent')",
	} {
		p.must("ask", "--write", "ledger", statement)
	}
	p.write("neighbour.toml", declared+"users = [\"shed\", \"reader's\"]\n")
	p.must("apply")
	for _, user := range []string{"shed", "reader's"} {
		db, err := sql.Open("pgx", p.status().Service["ledger"].Facts[map[string]string{"shed": "url"}[user]+map[string]string{"reader's": "reader's.url"}[user]])
		require.NoError(t, err)
		for _, statement := range []string{
			"insert into tool (name, state) values ('saw', 'here')", `insert into "Shed 2".loan values (1, 1) on conflict do nothing`, "select nextval('free')", "select * from lent", "refresh materialized view names", "select twice(2)",
			"alter table tool add column c int", "alter table tool drop column c", "alter type state rename value 'here' to 'there'", "alter type state rename value 'there' to 'here'", "create table more (id int)", "drop table more",
		} {
			_, err := db.Exec(statement)
			assert.NoError(t, err, "%s: %s", user, statement)
		}
		db.Close()
	}
	p.must("restart")
	assert.Equal(t, "3\n", strings.TrimPrefix(p.must("ask", "ledger", "select count(*) from tool", "--csv"), "count\n"))
}
