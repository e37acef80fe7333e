package e2e

import (
	"context"
	"net/http"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/gomodule/redigo/redis"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

const realServers = `
[project]
name = "toolshed"
[service.ledger]
kind = "postgres"
databases = ["toolshed", "it's \"odd\""]
[service.shelf]
kind = "redis"
[service.postbox]
kind = "mail"
[service.worker]
run = "sleep 1000"
[service.worker.env]
DATABASE_URL = "${ledger.url}"
CACHE_URL = "${shelf.url}"
SMTP_URL = "${postbox.smtp_url}"
`

// use writes something into each server, or reads it back.
func use(t *testing.T, p *project, first bool) {
	t.Helper()
	ctx := context.Background()
	s := p.status().Service
	db, err := pgx.Connect(ctx, s["ledger"].Facts["url"])
	require.NoError(t, err)
	defer db.Close(ctx)
	cache, err := redis.DialURL(s["shelf"].Facts["url"])
	require.NoError(t, err)
	defer cache.Close()
	if first {
		_, err = db.Exec(ctx, "create table tools as select 'hammer drill' as name")
		require.NoError(t, err)
		_, err = cache.Do("SET", "drill", "A1")
		require.NoError(t, err)
		u, err := url.Parse(s["postbox"].Facts["smtp_url"])
		require.NoError(t, err)
		require.NoError(t, smtp.SendMail(u.Host, nil, "shed@example.org", []string{"ines@example.org"}, []byte("Subject: drill\r\n\r\nDear Ines\r\n")))
	}
	var name, address string
	require.NoError(t, db.QueryRow(ctx, "select name, host(inet_server_addr()) from tools").Scan(&name, &address))
	assert.Equal(t, "hammer drill", name)
	assert.Equal(t, "127.0.0.1", address)
	var listening string
	require.NoError(t, db.QueryRow(ctx, "show listen_addresses").Scan(&listening))
	assert.Equal(t, "127.0.0.1", listening)
	var odd int
	require.NoError(t, db.QueryRow(ctx, `select count(*) from pg_database where datname = 'it''s "odd"'`).Scan(&odd))
	assert.Equal(t, 1, odd)
	shelf, err := redis.String(cache.Do("GET", "drill"))
	require.NoError(t, err)
	assert.Equal(t, "A1", shelf)
	mails, err := filepath.Glob(p.state("data/postbox/messages/*.eml"))
	require.NoError(t, err)
	assert.Len(t, mails, 1)
}

func TestRealServersKeepTheirData(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "redis-server")
	p := newProject(t, realServers)
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "initdb: creating the cluster")
	s := p.status().Service
	assert.Regexp(t, `^\d+\.\d+`, s["ledger"].Version)
	assert.Regexp(t, `^\d+\.\d+\.\d+`, s["shelf"].Version)
	use(t, p, true)

	password := s["ledger"].Facts["password"]
	require.Len(t, password, 26)
	assert.NotContains(t, p.must("status"), password)
	for _, file := range []string{"logs/keeper.jsonl", "logs/ledger.log", "run/state.json"} {
		b, err := os.ReadFile(p.state(file))
		require.NoError(t, err)
		assert.NotContains(t, string(b), password, file)
	}

	p.must("stop")
	assert.Empty(t, p.left())
	r = p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.NotContains(t, r.stderr, "initdb", "what is prepared once is not prepared again")
	use(t, p, false)
	assert.Equal(t, s["ledger"].Facts, p.status().Service["ledger"].Facts)

	// A database declared later is created then.
	p.must("stop")
	p.write("neighbour.toml", strings.Replace(realServers, `"toolshed", `, `"toolshed", "later", `, 1))
	p.must("start", "ledger")
	db, err := pgx.Connect(context.Background(), strings.Replace(s["ledger"].Facts["url"], "/toolshed?", "/later?", 1))
	require.NoError(t, err)
	db.Close(context.Background())
}

func TestPostgresThatCantBeUsed(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	p := newProject(t, "[service.ledger]\nkind = \"postgres\"\nversion = \">=99\"\n")
	assert.Regexp(t, `no installed PostgreSQL meets version = ">=99"; installed: \d+\.\d+ \(/.*\); install another`, p.run("start").stderr)
	p.must("stop")

	p.write("neighbour.toml", "[service.ledger]\nkind = \"postgres\"\n")
	p.must("start")
	p.must("stop")
	cluster := p.state("data/ledger/cluster")
	version := filepath.Join(cluster, "PG_VERSION")
	made, err := os.ReadFile(version)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(version, []byte("9.6\n"), 0o644))
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `its data in .*cluster was made by PostgreSQL 9\.6, and installed is only .*; install Debian's postgresql-9\.6, or move that folder away`, r.stderr)
	p.must("stop")
	require.NoError(t, os.WriteFile(version, made, 0o644))

	secrets := p.state("secrets.json")
	kept, err := os.ReadFile(secrets)
	require.NoError(t, err)
	require.NoError(t, os.Remove(secrets))
	r = p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "the cluster has another password than the project's secrets.json; put that file back")
	p.must("stop")
	require.NoError(t, os.WriteFile(secrets, kept, 0o600))
	p.must("start")
	p.must("stop")

	// A first start that was cut off leaves no half cluster in the way.
	require.NoError(t, os.Remove(version))
	assert.Contains(t, p.run("start").stderr, "is not a PostgreSQL cluster; move it away")
	require.NoError(t, os.RemoveAll(cluster))
	p.must("stop")
	p.must("start", "--no-wait")
	p.until("ledger", "preparing")
	p.must("stop")
	assert.Empty(t, p.left())
	p.must("start")
}

func TestMissingServersAreNamedWithTheirPackage(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.ledger]\nkind = \"postgres\"\n[service.shelf]\nkind = \"redis\"\n")
	if _, err := os.Stat("/usr/bin/redis-server"); err == nil {
		// It is found where Debian puts it, also outside PATH.
		testkit.Need(t, testkit.Postgres, "postgres")
		p.env = []string{"PATH=/nowhere"}
		r := p.run("start")
		assert.Zero(t, r.code, r.stderr)
		return
	}
	assert.Regexp(t, regexp.MustCompile(`redis-server is not installed .*\n    install it with\n    (sudo )?apt-get install --no-install-recommends redis-server\n`), p.run("start").stderr)
}

func TestExampleToolshed(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "redis-server")
	root, err := filepath.Abs("../../examples/toolshed")
	require.NoError(t, err)
	// A folder of its own inside the module, so that its programs build.
	dir, err := os.MkdirTemp(filepath.Dir(root), ".toolshed-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.CopyFS(dir, os.DirFS(root)))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".neighbour")))
	b, err := os.ReadFile(filepath.Join(dir, "neighbour.toml"))
	require.NoError(t, err)
	p := newProjectIn(t, dir, strings.Replace(string(b), "port = 4180\n", "", 1))
	if os.Getuid() == 0 { // the clone may be another user's
		p.must("vouch")
	}
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	resp, err := http.Get(p.status().Service["api"].Facts["url"] + "/tools")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	require.Eventually(t, func() bool { return strings.Contains(p.must("logs", "reminders"), "reminded Ines Brandt") }, patience, 50*time.Millisecond)
	p.must("stop")
	assert.Empty(t, p.left())
}

func TestDemoWithoutATerminal(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		args []string
		code int
		says []string
	}{
		{[]string{"demo"}, 0, []string{"13 of 13 ready"}},
		{[]string{"demo", "--trouble"}, 1, []string{"is held by neighbour toolshed stranger, pid", "not ours", "permission denied", "for noticeboard, which failed"}},
	} {
		p := newDemo(t, len(c.args) > 1)
		r := runWith(t, p.env, t.TempDir(), c.args...)
		assert.Equal(t, c.code, r.code, r.stderr)
		for _, s := range c.says {
			assert.Contains(t, r.stdout+r.stderr, s)
		}
		dir := regexp.MustCompile(`The demo runs in (\S+);`).FindStringSubmatch(r.stdout)
		require.NotNil(t, dir, r.stdout)
		assert.Equal(t, p.dir, dir[1])
		if c.code == 0 {
			_, page := fetch(t, strings.TrimSpace(p.must("open", "--print", "web")))
			assert.Contains(t, page, "★★★★☆ Strong, but heavy overhead.")
			photo := regexp.MustCompile(`<img src="(http://127\.0\.0\.1:\d+/tools/hammer-drill\.png)"`).FindStringSubmatch(page)
			require.NotNil(t, photo, page)
			_, png := fetch(t, photo[1])
			assert.True(t, strings.HasPrefix(png, "\x89PNG"))
		}
		p.must("stop")
		assert.Empty(t, p.left())
	}
}
