package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

const settled = `
[service.ledger]
kind = "postgres"
databases = ["toolshed"]
extensions = ["plpgsql"]
settings = { work_mem = "7MB" }
[service.books]
kind = "mariadb"
settings = { max_allowed_packet = "2M" }
[service.shelf]
kind = "redis"
settings = { maxmemory = "64mb", save = "60 1000" }
[service.scratch]
kind = "redis"
forget = true
[service.worker]
run = "sleep 1000"
dir = "worker"
env.GREETING = "it's ${shelf.port}"
`

// say runs a console with commands on its standard input.
func (p *project) say(service, commands string) string {
	p.t.Helper()
	cmd := exec.Command(binary, "console", service)
	cmd.Dir = p.dir
	cmd.Stdin = strings.NewReader(commands)
	out, err := cmd.CombinedOutput()
	require.NoError(p.t, err, string(out))
	return string(out)
}

func TestConsolesAndSettings(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "redis-server")
	testkit.Need(t, "/usr/sbin/mariadbd", "mariadbd")
	p := newProject(t, settled)
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "worker"), 0o755))
	r := p.run("console", "ledger")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "ledger is stopped; start it with: neighbour start ledger")
	r = p.run("start")
	require.Zero(t, r.code, r.stderr)

	assert.Contains(t, p.say("ledger", "show work_mem; select current_database();\n"), "7MB")
	assert.Contains(t, p.say("books", "select @@max_allowed_packet;\n"), "2097152")
	assert.Contains(t, p.say("shelf", "config get maxmemory\nset drill A1\n"), "67108864")
	assert.Contains(t, p.say("scratch", "set drill A1\n"), "OK")
	assert.Contains(t, p.say("worker", "echo $GREETING\n"), "it's ")
	for _, name := range []string{"ledger", "books"} {
		assert.NotContains(t, p.must("status"), p.status().Service[name].Facts["password"])
	}
	p.must("stop")
	p.must("start", "shelf", "scratch")
	assert.Contains(t, p.say("shelf", "get drill\n"), "A1", "kept")
	assert.NotContains(t, p.say("scratch", "get drill\n"), "A1", "forgotten, as declared")

	out := p.must("run", "--with", "worker", "--", "sh", "-c", `echo "$GREETING in $(basename "$PWD")"`)
	assert.Regexp(t, `^it's \d+ in worker\n$`, out)
	assert.Equal(t, 7, p.run("run", "--with", "worker", "--", "sh", "-c", "exit 7").code)
	// Of a variable that this terminal has, too, a command gets the service's.
	p.env = append(p.env, "GREETING=of the terminal")
	out = p.must("run", "--with", "worker", "--", "sh", "-c", `tr '\0' '\n' </proc/$$/environ | grep ^GREETING=`)
	assert.NotContains(t, out, "of the terminal")
	assert.Contains(t, out, "GREETING=")
	p.write("worker/own", "#!/bin/sh\necho own\n")
	assert.Equal(t, "own\n", p.must("run", "--with", "worker", "--", "./own"))
	r = p.run("run", "--with", "worker", "--", "no-such-command")
	assert.Contains(t, r.stderr, "there is no command no-such-command")
	assert.Equal(t, 2, p.run("run", "--", "true").code)
}

// Where users are declared, the console and the clients log in as the first of
// them, and not as one who may do everything.
func TestConsolesOfUsers(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "/usr/sbin/mariadbd", "mariadbd")
	testkit.Need(t, "/usr/lib/rabbitmq/bin/rabbitmq-server")
	p := newProject(t, `
[service.ledger]
kind = "postgres"
databases = ["toolshed"]
users = ["it's: a \\user", "reader"]
[service.books]
kind = "mariadb"
databases = ["tool_shed"]
users = ["shed", "reader"]
[service.orders]
kind = "rabbitmq"
users = ["shed"]
queues = ["late"]
`)
	p.must("start")
	assert.Contains(t, p.say("ledger", "select 'I am ' || current_user || ' in ' || current_database();\n"), `I am it's: a \user in toolshed`)
	assert.Contains(t, p.must("run", "--with", "ledger", "--", "psql", "-tAc", "create table t (a int); select current_user"), `it's: a \user`)
	assert.Contains(t, p.say("books", "select current_user(), database();\n"), "shed@127.0.0.1\ttool_shed")
	assert.Contains(t, p.must("run", "--with", "books", "--", "mariadb", "tool_shed", "-e", "create table t (a int); select current_user()"), "shed@127.0.0.1")
	assert.Contains(t, p.must("run", "--with", "books", "--", "mariadb-dump", "tool_shed"), "CREATE TABLE `t`")
	assert.Contains(t, p.say("orders", "rabbitmqctl list_users\nrabbitmqctl list_queues\n"), "shed")
	assert.Contains(t, p.must("run", "--with", "orders", "--", "rabbitmqctl", "list_queues"), "late")
	assert.Equal(t, os.Getenv("HOME")+"\n", p.must("run", "--with", "orders", "--", "printenv", "HOME"))
	assert.NotRegexp(t, `(?m)^(HOME|PATH)=`, p.must("env", "orders"), "a shell that evaluates it goes on")
	for _, name := range []string{"ledger", "books"} {
		assert.NotContains(t, strings.Join(commandLines(t), "\n"), p.status().Service[name].Facts["password"])
	}

	// The checks leave nothing in the logs that comes again and again, nor a
	// refused login of before the server was ready.
	checks := func(name string) (n int) {
		m := regexp.MustCompile(`(?m)^\S+ +` + name + ` .* (\d+) checks?,`).FindStringSubmatch(p.must("status"))
		if m != nil {
			n, _ = strconv.Atoi(m[1])
		}
		return n
	}
	for _, name := range []string{"ledger", "orders"} {
		before := checks(name)
		require.Eventually(t, func() bool { return checks(name) >= before+2 }, patience, 500*time.Millisecond, name)
	}
	assert.NotContains(t, p.must("logs", "ledger"), "FATAL")
	assert.LessOrEqual(t, strings.Count(p.must("logs", "orders", "-n", "1000"), "accepting AMQP connection"), 2)
}

// commandLines are those of all processes that can be seen.
func commandLines(t *testing.T) []string {
	files, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	var out []string
	for _, f := range files {
		b, _ := os.ReadFile(f)
		out = append(out, string(b))
	}
	return out
}

func TestSettingsThatServersRefuse(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "redis-server")
	for toml, says := range map[string]string{
		"[service.a]\nkind = \"postgres\"\nsettings = { work_memory = \"1MB\" }\n":              `(?s)exit 1.*unrecognized configuration parameter "work_memory"`,
		"[service.a]\nkind = \"redis\"\nsettings = { maxmemories = \"1\" }\n":                   `(?s)exit 1.*Bad directive`,
		"[service.a]\nkind = \"redis\"\nsettings = { port = \"1\" }\n":                          "Neighbour sees to this setting itself",
		"[service.a]\nkind = \"postgres\"\nextensions = [\"x\"]\n":                              "there is no database to create them in",
		"[service.a]\nkind = \"postgres\"\ndatabases = [\"d\"]\nextensions = [\"telepathy\"]\n": `(?s)the extensions telepathy of PostgreSQL \d+ are not installed\n.*postgresql-\d+-telepathy`,
	} {
		p := newProject(t, toml)
		r := p.run("start")
		assert.Equal(t, 1, r.code, toml)
		assert.Regexp(t, says, r.stderr)
	}
}
