package e2e

import (
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// copies lists what is left of a project's fresh copies: folders, and processes that carry their
// marks.
func (p *project) copies() []string {
	p.t.Helper()
	var out []string
	entries, _ := os.ReadDir(p.state("copies"))
	for _, e := range entries {
		out = append(out, e.Name())
	}
	table, err := proc.ReadTable()
	require.NoError(p.t, err)
	for pid, e := range table {
		if mark := proc.MarkOf(pid); strings.HasPrefix(mark, filepath.Join(p.dir, ".neighbour/copies")) && e.Alive() {
			out = append(out, mark)
		}
	}
	return out
}

const copied = `[project]
name = "shed"
[service.shelf]
kind = "redis"
port = %d
[service.file]
kind = "sqlite"
file = "app.db"
migrations = "db"
[env]
write = ".env"
keys = { SHELF_URL = "${shelf.url}" }
[service.api]
run = "python3 -m http.server --bind 127.0.0.1 $PORT"
port = "any"
env.SHELF_URL = "${shelf.url}"
needs = ["shelf", "file"]
`

// An errand runs on a fresh copy beside the project: with other ports, and with data of its own
// that is migrated and gone afterwards. Its exit code is the command's.
func TestFreshCopies(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server", "redis-cli")
	declared := freePort(t)
	p := newProject(t, fmt.Sprintf(copied, declared)+`
[errand.test]
run = "sh -c 'echo number ${copy.number} of ${copy.name}; echo $PUBLIC/ $URL/ > address; echo $FILE; redis-cli -u $SHELF_URL --raw incr tests; exit ${env.CODE:-0}'"
with = "api"
env.FILE = "${file.path}"
env.URL = "${api.url}"
env.PUBLIC = "${api.public_url}"
needs = ["file"]
fresh = true
[errand.many]
run = "sh -c 'test ${copy.number} != 3 || exit 1; redis-cli -u $SHELF_URL --raw set copy ${copy.number} > /dev/null; sleep 0.2; redis-cli -u $SHELF_URL --raw get copy'"
with = "api"
fresh = true
copies = 4
`)
	p.write("db/1-loans.sql", "create table loans (id integer primary key);")
	p.must("start")
	address := p.status().Service["shelf"].Facts["url"]
	incr := func(address string) string {
		out, err := exec.Command("redis-cli", "-u", address, "--raw", "incr", "tests").CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	require.Equal(t, "1", incr(address))
	env, err := os.ReadFile(filepath.Join(p.dir, ".env"))
	require.NoError(t, err)
	require.Contains(t, string(env), address)
	defer func() {
		after, err := os.ReadFile(filepath.Join(p.dir, ".env"))
		require.NoError(t, err)
		assert.Equal(t, string(env), string(after), "a copy writes no env file")
	}()
	for range 2 { // the second begins with what the first has migrated
		r := p.run("run", "test")
		require.Equal(t, 0, r.code, r.stderr)
		assert.Regexp(t, `(?m)^number 1 of fresh-[a-z0-9]{6}\n`+p.state()+`/copies/fresh-[a-z0-9]{6}/data/file/app\.db\n1$`, strings.TrimSpace(r.stdout))
		assert.Regexp(t, fmt.Sprintf(`the copy has ports of its own: shelf \d+ for %d`, declared), r.stderr)
		assert.Contains(t, r.stderr, "an app that lets its env file win reaches the project itself and not this copy: ")
		assert.Empty(t, p.copies())
	}
	addresses, err := os.ReadFile(filepath.Join(p.dir, "address"))
	require.NoError(t, err)
	public, itself, _ := strings.Cut(strings.TrimSpace(string(addresses)), " ")
	assert.Equal(t, itself, public, "what a copy says of its address leads to the copy")
	assert.NotEqual(t, p.status().Service["api"].Facts["url"]+"/", itself)
	templates, _ := filepath.Glob(p.state("templates/template-*"))
	assert.Len(t, templates, 1)
	p.write("db/2-tools.sql", "create table tools (id integer primary key);")
	p.must("run", "test")
	templates, _ = filepath.Glob(p.state("templates/template-*"))
	assert.Len(t, templates, 2, "another migration makes another")
	assert.Equal(t, "2", incr(address), "the project's own data is what it was")
	require.Equal(t, "ready", p.status().Service["shelf"].State)

	p.env = append(p.env, "CODE=7")
	failed := p.run("run", "test")
	assert.Equal(t, 7, failed.code)
	_, logs, ok := strings.Cut(strings.TrimSpace(failed.stderr), "the logs of the copy are in ")
	require.True(t, ok, failed.stderr)
	assert.FileExists(t, filepath.Join(logs, "shelf.log"))
	assert.Equal(t, "failed", string(p.lastRun("test").Result), "it is in the project's history")

	// Several at once.
	many := p.run("run", "--junit", "out.xml", "many")
	assert.Equal(t, 1, many.code, "one has failed: %s%s", many.stdout, many.stderr)
	for _, n := range []string{"1", "2", "4"} {
		assert.Contains(t, many.stdout, n+" │ "+n+"\n")
	}
	b, err := os.ReadFile(filepath.Join(p.dir, "out.xml"))
	require.NoError(t, err)
	var report struct {
		Suite struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Cases    []struct {
				Name    string `xml:"name,attr"`
				Class   string `xml:"classname,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(b, &report))
	assert.Equal(t, 4, report.Suite.Tests)
	require.Equal(t, 1, report.Suite.Failures, string(b))
	assert.Equal(t, "shed.copy-3", report.Suite.Cases[2].Class)
	assert.Equal(t, "exit 1", report.Suite.Cases[2].Failure.Message)

	// A command, with the data of a snapshot.
	p.must("snapshot", "save", "two")
	r := p.run("run", "--fresh", "--from", "two", "--", "sh", "-c", "redis-cli -u $SHELF_URL --raw incr tests; echo $SHELF_URL")
	require.Equal(t, 0, r.code, r.stderr)
	assert.Regexp(t, `^3\nredis://`, r.stdout)
	assert.NotContains(t, r.stdout, address+"\n")
	assert.Equal(t, "3", incr(address))
	_, err = os.Stat(p.state("snapshots/replaced"))
	assert.Error(t, err, "of a copy nothing is kept")

	// One that stays.
	p.must("run", "--keep", "mine", "--with", "api", "--", "true")
	assert.Contains(t, p.must("--copy", "mine", "status"), "shelf")
	own := p.must("--copy", "mine", "run", "--with", "shelf", "--", "printenv", "SHELF_URL")
	assert.NotEqual(t, address, strings.TrimSpace(own))
	assert.Equal(t, "1", incr(strings.TrimSpace(own)))
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--copy", "mine", "run", "--fresh", "test"}, "mine is a copy itself"},
		{[]string{"--copy", "other", "status"}, `there is no copy "other"; there are: mine`},
		{[]string{"--copy", "../..", "status"}, "can't be the name of a copy"},
		{[]string{"run", "--keep", "mine", "test"}, "there is a copy mine already"},
		{[]string{"run", "--keep", "x", "--copies", "2", "test"}, "leave --copies out"},
		{[]string{"run", "--copies", "99", "test"}, "--copies is 1 to 32"},
		{[]string{"run", "--from", "nothing", "test"}, "there is no such snapshot"},
		{[]string{"run", "--fresh", "nothing"}, `there is no errand "nothing"`},
	} {
		r := p.run(c.args...)
		assert.NotEqual(t, 0, r.code, "%v", c.args)
		assert.Contains(t, r.stderr, c.says, "%v", c.args)
	}
	assert.Contains(t, p.must("--copy", "mine", "stop"), "stopped: ")
	assert.Empty(t, p.copies())
	assert.Equal(t, "ready", p.status().Service["api"].State, "the project goes on")
}

// Ten at once, also of two projects, don't disturb one another; one that is killed is taken away
// by its keeper, or, if that was killed, too, by the next.
func TestFreshCopiesAtOnce(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server", "redis-cli")
	declaration := "[service.shelf]\nkind = \"redis\"\n[service.reviews]\nkind = \"documents\"\n"
	all := []*project{newProject(t, declaration), newProject(t, declaration)}
	var running sync.WaitGroup
	for i := range 10 {
		running.Go(func() {
			r := all[i%2].run("run", "--fresh", "--with", "shelf", "--", "sh", "-c", fmt.Sprintf("redis-cli -u $SHELF_URL --raw rpush n %d; sleep 0.3; redis-cli -u $SHELF_URL --raw lrange n 0 -1", i))
			assert.Equal(t, 0, r.code, r.stderr)
			assert.Equal(t, fmt.Sprintf("1\n%d\n", i), r.stdout)
		})
	}
	running.Wait()
	for _, p := range all {
		assert.Empty(t, p.copies())
	}
	p := all[0]
	for _, signal := range []syscall.Signal{0, syscall.SIGKILL, syscall.SIGTERM} { // to its keeper
		cmd := exec.Command(binary, "run", "--fresh", "--with", "reviews", "--", "sh", "-c", "echo $$ >$PIDFILE; exec sleep 1000")
		pidFile := filepath.Join(t.TempDir(), "pid")
		cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "PIDFILE="+pidFile)
		t.Cleanup(func() { // nobody is left to end the user's own command
			if b, err := os.ReadFile(pidFile); err == nil {
				pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
				require.NoError(t, err)
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		})
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool {
			return slices.ContainsFunc(p.copies(), func(s string) bool { return strings.HasSuffix(s, ":reviews") })
		}, patience, 20*time.Millisecond)
		names, _ := filepath.Glob(p.state("copies/fresh-*"))
		require.Len(t, names, 1)
		keeper := p.statusOf(filepath.Base(names[0])).Keeper.PID
		require.NoError(t, cmd.Process.Kill())
		if signal != 0 {
			require.NoError(t, syscall.Kill(keeper, signal))
		}
		_ = cmd.Wait()
		if signal != 0 {
			id, err := proc.Identify(keeper)
			require.Eventually(t, func() bool { return err != nil || !id.Alive() }, patience, 10*time.Millisecond)
			require.NotEmpty(t, p.copies())
			p.must("run", "--fresh", "--with", "reviews", "--", "true")
		}
		require.Eventually(t, func() bool { return len(p.copies()) == 0 }, patience, 20*time.Millisecond, "%v: %v", signal, p.copies())
	}
}
