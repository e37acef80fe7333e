package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// listens is a program that listens on its port and answers HTTP.
const listens = `python3 -c 'import os,http.server; http.server.HTTPServer((\"127.0.0.1\", int(os.environ[\"PORT\"])), http.server.SimpleHTTPRequestHandler).serve_forever()'`

// What was mended is started by apply, and by a start that touches nothing
// else.
func TestMended(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("a")+"[service.b]\nrun = \"sh -c 'echo Error: no ladder; exit 3'\"\n[service.c]\nrun = \"sleep 1000\"\nneeds = [\"b\"]\n")
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	a := p.status().Service["a"].PID
	assert.Regexp(t, `^exit 3( at once,|, [0-9.]+ s after its start and) before it was ready: Error: no ladder`, p.status().Service["b"].Reason)
	r = p.run("apply")
	assert.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stdout, "b stays: it failed, and nothing has changed for it; neighbour start b tries it again: exit 3")
	assert.NotContains(t, r.stdout, "b goes on")

	// What runs before its start, too, is a change for it, once.
	p.write("neighbour.toml", program("a")+"[service.b]\nrun = \"sh -c 'echo Error: no ladder; exit 3'\"\n[service.c]\nrun = \"sleep 1000\"\nneeds = [\"b\"]\n[errand.ladder]\nrun = \"true\"\nbefore = [\"b\"]\n")
	r = p.run("apply")
	assert.Contains(t, r.stdout, "b starts: it had failed, and what runs before it has changed: ladder")
	assert.Contains(t, p.run("apply").stdout, "b stays: it failed")

	p.write("neighbour.toml", program("a")+program("b")+program("c", `needs = ["b"]`))
	r = p.run("apply")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stdout, "b starts: it had failed, and has changed: run")
	assert.NotContains(t, r.stdout+r.stderr, "exit 3")
	s := p.status().Service
	assert.Equal(t, "ready", s["b"].State)
	assert.Equal(t, "ready", s["c"].State, "what waited for it goes on")
	assert.Equal(t, a, s["a"].PID)

	// A start uses a changed file if nothing that runs is touched, and says so.
	p.write("neighbour.toml", program("a")+program("b")+program("c", `needs = ["b"]`)+program("d")+program("e"))
	r = p.run("start", "d")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "neighbour.toml was changed, and is read again: d (it is new), e (it is new)")
	assert.Contains(t, r.stdout, "1 of 1 ready")
	s = p.status().Service
	assert.Equal(t, "ready", s["d"].State)
	assert.Equal(t, "stopped", s["e"].State, "it was not named")
	assert.Equal(t, a, s["a"].PID)

	// If it would, that is said, nothing is touched, and it did not work.
	p.write("neighbour.toml", program("a", "env.X = \"1\"")+program("b")+program("c", `needs = ["b"]`)+program("d")+program("e")+program("f"))
	r = p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "a restarts: changed: env")
	assert.Contains(t, r.stderr, "to use it now: neighbour apply")
	assert.Equal(t, "ready", p.status().Service["e"].State, "what the file said before is started")
	r = p.run("start", "f")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "f is new, and not started")
	// A restart of just that one uses it.
	r = p.run("restart", "a")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, p.must("env", "a"), "X=1")
	s = p.status().Service
	assert.NotEqual(t, a, s["a"].PID)
	assert.Contains(t, s, "f")

	// A change that is sure to fail stops nothing.
	b, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	p.write("neighbour.toml", strings.Replace(string(b), "[service.b]\nrun = \"sleep 1000\"", "[service.b]\nrun = \"no-such-program\"", 1))
	r = p.run("apply")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "nothing was changed: b runs, and could not start as it is declared now: no-such-program is not installed")
	assert.Equal(t, s["b"].PID, p.status().Service["b"].PID)
}

// A port that was held is free again: what failed for it is started.
func TestCauseIsGone(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	number := l.Addr().(*net.TCPAddr).Port
	p := newProject(t, program("a")+"[service.b]\nrun = \""+listens+"\"\nport = "+itoa(number)+"\n")
	assert.Equal(t, 1, p.run("start").code)
	assert.Contains(t, p.must("apply"), "b stays: it failed")
	l.Close()
	assert.Contains(t, p.must("apply"), "b starts: it had failed, and nothing is found any more that stops it")
	assert.Equal(t, "ready", p.status().Service["b"].State)
}

// A service that is to run once does so again when it is named, when it was
// stopped, or when it has changed, and not because something else starts.
func TestOnce(t *testing.T) {
	t.Parallel()
	once := "[service.migrate]\nrun = \"sh -c 'echo x >> runs'\"\nonce = true\n"
	p := newProject(t, once+program("api", `needs = ["migrate"]`))
	runs := func() int {
		b, _ := os.ReadFile(filepath.Join(p.dir, "runs"))
		return strings.Count(string(b), "x")
	}
	p.must("start")
	assert.Equal(t, 1, runs())
	p.must("start")
	p.must("restart", "api")
	assert.Equal(t, 1, runs())
	p.write("neighbour.toml", once+program("api", `needs = ["migrate"]`, "env.A = \"1\""))
	out := p.must("apply")
	assert.NotContains(t, out, "migrate")
	assert.Equal(t, 1, runs())
	p.write("neighbour.toml", once+"env.B = \"1\"\n"+program("api", `needs = ["migrate"]`, "env.A = \"1\""))
	assert.Contains(t, p.must("apply"), "migrate starts: it runs again, since it has changed: env")
	assert.Equal(t, 2, runs())
	p.must("start", "migrate")
	assert.Equal(t, 3, runs())
	p.must("stop")
	p.must("start")
	assert.Equal(t, 4, runs())
}

// What several services prepare alike in one folder runs once, the others
// wait; it runs again when what it makes is gone, or when asked to.
func TestPreparationsAreShared(t *testing.T) {
	t.Parallel()
	var declaration strings.Builder
	for i := range 4 {
		fmt.Fprintf(&declaration, "[service.s%d]\nrun = \"sleep 1000\"\nprepare = [{ run = \"./install\", when = [\"lock\"], makes = [\"modules\"] }, { run = \"./always\" }]\n", i)
	}
	p := newProject(t, declaration.String())
	p.write("lock", "1")
	for _, name := range []string{"install", "always"} {
		p.write(name, "#!/bin/sh\nmkdir "+name+".running || { echo twice at once; exit 1; }\nsleep 0.2\nmkdir -p modules\necho x >> "+name+".runs\nrmdir "+name+".running\n")
	}
	runs := func(name string) int {
		b, _ := os.ReadFile(filepath.Join(p.dir, name+".runs"))
		return strings.Count(string(b), "x")
	}
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Equal(t, 1, runs("install"))
	assert.Equal(t, 1, runs("always"))
	p.must("stop")
	p.must("start")
	assert.Equal(t, 1, runs("install"))
	assert.Equal(t, 2, runs("always"))
	p.must("stop")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "modules")))
	assert.Contains(t, p.must("check"), "./install is to run: modules, which it makes, isn't there")
	p.must("start")
	assert.Equal(t, 2, runs("install"))
	p.must("stop")
	p.must("start", "--prepare")
	assert.Equal(t, 3, runs("install"))
	p.must("restart", "s0", "--prepare")
	assert.Equal(t, 4, runs("install"))
}

// A program without a check that ends right after its start is a failure, and
// the start says so.
func TestTrial(t *testing.T) {
	t.Parallel()
	for run, says := range map[string]string{
		"sh -c 'sleep 0.4; echo Error: no drill >&2; exit 5'": `exit 5, 0\.\d s after its start: Error: no drill`,
		"sleep 0.5": `exit 0, 0\.\d s after its start; if it is meant to end by itself, add once = true`,
	} {
		p := newProject(t, program("a")+"[service.b]\nrun = \""+run+"\"\n")
		r := p.run("start")
		assert.Equal(t, 1, r.code, r.stderr)
		assert.Contains(t, r.stdout, "1 of 2 ready")
		assert.Regexp(t, says, r.stderr)
		assert.Regexp(t, says, p.status().Service["b"].Reason)
	}
}

// Ports that programs get, and what is said of those that they listen on.
func TestPortsOfPrograms(t *testing.T) {
	t.Parallel()
	number := freePort(t)
	p := newProject(t, `
[service.any]
run = "sleep 1000"
port = "any"
health = { run = "true" }
[service.path]
run = "`+listens+`"
health = { http = "/" }
[service.literal]
run = "`+listens+`"
health = { tcp = "127.0.0.1:`+itoa(number)+`" }
[service.none]
run = "sleep 1000"
[service.astray]
run = "env PORT=`+itoa(freePort(t))+` `+listens+`"
port = "any"
health = { http = "/", within = "8s" }
`)
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	s := p.status().Service
	assert.Regexp(t, `(?s)not ready within 8 s; newest check: .*its processes listen on 127.0.0.1:\d+, not on 127.0.0.1:\d+`, s["astray"].Reason)
	assert.Contains(t, p.must("env", "any"), "PORT="+itoa(s["any"].Port))
	assert.NotZero(t, s["path"].Port)
	assert.Equal(t, "ready", s["path"].State)
	assert.Equal(t, number, s["literal"].Port)
	assert.Equal(t, "ready", s["literal"].State)
	assert.NotContains(t, p.must("env", "none"), "PORT")
}

// A stranger who takes a port after it was chosen is never taken for the
// service.
func TestStrangersOnPorts(t *testing.T) {
	t.Parallel()
	prepare := `prepare = [{ run = "sh -c 'touch begun; while [ ! -e go ]; do sleep 0.02; done'" }]` + "\n"
	take := func(p *project, number int) {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", number))
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() { _ = http.Serve(l, http.NotFoundHandler()) }()
	}
	t.Run("before the launch, declared", func(t *testing.T) {
		p := newProject(t, "[service.a]\nrun = \""+listens+"\"\nport = "+itoa(freePort(t))+"\n"+prepare)
		p.must("start", "--no-wait")
		p.until("a", "preparing")
		p.holds("begun", "")
		take(p, p.status().Service["a"].Port)
		p.write("go", "")
		assert.Regexp(t, `port \d+ is held by .*, not ours`, p.until("a", "failed").Reason)
	})
	t.Run("before the launch, any", func(t *testing.T) {
		p := newProject(t, "[service.a]\nrun = \""+listens+"\"\nport = \"any\"\n"+prepare)
		p.must("start", "--no-wait")
		p.until("a", "preparing")
		p.holds("begun", "")
		first := p.status().Service["a"].Port
		take(p, first)
		p.write("go", "")
		assert.NotEqual(t, first, p.until("a", "ready").Port)
	})
	t.Run("after the launch", func(t *testing.T) {
		p := newProject(t, program("a", "port = "+itoa(freePort(t)), `health = { http = "/", status = 404 }`))
		p.must("start", "--no-wait")
		take(p, p.until("a", "starting").Port)
		assert.Regexp(t, `port \d+ is held by .*, not ours, which answers in place of a`, p.until("a", "failed").Reason)
	})
	t.Run("of a database", func(t *testing.T) {
		testkit.Need(t, testkit.Postgres, "postgres")
		p := newProject(t, "[service.ledger]\nkind = \"postgres\"\nport = "+itoa(freePort(t))+"\nusers = [\"shed\"]\n")
		p.must("start", "--no-wait")
		take(p, p.until("ledger", "preparing").Port) // while the cluster is made
		reason := p.until("ledger", "failed").Reason
		assert.Regexp(t, `port \d+ is held by .*, not ours`, reason)
		assert.NotContains(t, reason, "another password")
	})
}

// A variable comes from another service's env unless the service has its own.
func TestEnvOf(t *testing.T) {
	t.Parallel()
	web := "[service.web]\nrun = \"sleep 1000\"\nport = \"any\"\nenv = { A = \"1\", B = \"2\", SHELF = \"${shelf.port}\", ME = \"${worker.port}\" }\n"
	shelf := program("shelf", `port = "any"`, `health = { run = "true" }`)
	web = strings.Replace(web, "port = ", "health = { run = \"true\" }\nport = ", 1)
	worker := program("worker", `health = { run = "true" }`, `env_of = "web"`, `env = { B = "own" }`)
	p := newProject(t, shelf+web+worker)
	p.must("start")
	s := p.status().Service
	assert.Equal(t, []string{"shelf"}, s["worker"].Needs, "what it refers to, and not the other service")
	env := p.must("env", "worker")
	for _, line := range []string{"A=1\n", "B=own\n", "SHELF=" + itoa(s["shelf"].Port) + "\n"} {
		assert.Contains(t, env, line)
	}
	p.write("neighbour.toml", shelf+strings.Replace(web, `A = "1"`, `A = "5"`, 1)+worker)
	out := p.must("apply")
	assert.Contains(t, out, "web restarts: changed: env.A")
	assert.Contains(t, out, "worker restarts: changed: env.A")
	for toml, says := range map[string]string{
		program("a", `env_of = "a"`):                                "names the service itself",
		program("a", `env_of = "nobody"`):                           `there is no service "nobody"`,
		program("a", `env_of = "b"`) + program("b", `env_of = "a"`): "goes round in a circle",
	} {
		assert.Contains(t, newProject(t, toml).run("check").stderr, says)
	}
}

// However many processes ask at the same time, each is told the same
// passwords and ports.
func TestSecretsOfManyProcesses(t *testing.T) {
	t.Parallel()
	var declaration strings.Builder
	for i := range 12 {
		fmt.Fprintf(&declaration, "[service.db%d]\nkind = \"postgres\"\n", i)
	}
	declaration.WriteString("[service.api]\nrun = \"sleep 1000\"\n[service.api.env]\n")
	for i := range 12 {
		fmt.Fprintf(&declaration, "URL%d = \"${db%d.url}\"\n", i, i)
	}
	p := newProject(t, declaration.String())
	for range 3 {
		require.NoError(t, os.RemoveAll(p.state()))
		answers := make([]string, 6)
		var all sync.WaitGroup
		for i := range answers {
			all.Go(func() { answers[i] = p.run("env", "api", "--json").stdout })
		}
		all.Wait()
		var first map[string]string
		require.NoError(t, json.Unmarshal([]byte(answers[0]), &first), answers[0])
		require.Len(t, first, 12)
		for _, a := range answers {
			require.Equal(t, answers[0], a)
		}
		require.Equal(t, answers[0], p.must("env", "api", "--json"))
	}
}

// A web root that is the project's own folder serves none of its secrets.
func TestWebServersKeepSecrets(t *testing.T) {
	t.Parallel()
	needWeb(t)
	p := newProject(t, `
[service.engine]
kind = "php"
[service.nginx]
kind = "nginx"
root = "."
[service.pages]
kind = "nginx"
root = "."
php = "${engine}"
extra = "location ^~ /extra/ { try_files $uri =404; }"
[service.apache]
kind = "apache"
root = "."
php = "${engine}"
[service.plain]
kind = "apache"
root = "."
[service.static]
kind = "static"
root = "."
listing = true
[service.app]
run = "python3 -c 'import os,http.server\nclass H(http.server.BaseHTTPRequestHandler):\n def do_GET(self):\n  self.send_response(200); self.end_headers(); self.wfile.write(b\"the app\")\nhttp.server.HTTPServer((\"127.0.0.1\", int(os.environ[\"PORT\"])), H).serve_forever()'"
port = "any"
[service.front]
kind = "nginx"
root = "."
proxy = "${app}"
[service.other]
kind = "apache"
root = "."
proxy = "${app}"
`)
	for name, text := range map[string]string{".env": "SECRET", ".env.local": "SECRET", ".git/config": "SECRET", "neighbour.local.toml": "[project]\n# SECRET\n", "extra/.env": "SECRET",
		"index.html": "page", "index.php": "page", ".well-known/security.txt": "contact", "a.csv": "1", "a.webmanifest": "{}"} {
		p.write(name, text)
	}
	for _, dir := range []string{filepath.Dir(p.dir), p.dir} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, p.must("check"), "its web root holds what must not be served: .env, .env.local, .git, .neighbour, neighbour.local.toml, neighbour.toml")
	s := p.status().Service
	for _, server := range []string{"nginx", "pages", "apache", "plain", "static", "front", "other"} {
		url := s[server].Facts["url"]
		for _, path := range []string{"/.neighbour/secrets.json", "/.neighbour/ports.json", "/neighbour.toml", "/NEIGHBOUR.toml", "/neighbour.local.toml", "/.git/config", "/.env", "/.env.local", "/%2eenv", "/x/../.env", "//.env", "/extra/.env", "/.git/"} {
			req, err := http.NewRequest("GET", url, nil)
			require.NoError(t, err)
			req.URL.Opaque = "//" + req.URL.Host + path
			resp, err := http.DefaultTransport.RoundTrip(req)
			require.NoError(t, err)
			body := make([]byte, 4096)
			n, _ := resp.Body.Read(body)
			resp.Body.Close()
			if server == "front" || server == "other" {
				assert.NotContains(t, string(body[:n]), "SECRET", "%s%s", server, path)
				assert.NotContains(t, string(body[:n]), "service.", "%s%s", server, path)
			} else {
				assert.Contains(t, []int{301, 400, 403, 404}, resp.StatusCode, "%s%s: %s", server, path, body[:n])
			}
		}
		status, body := fetch(t, url+"/.well-known/security.txt")
		assert.Equal(t, 200, status, server)
		assert.Contains(t, body, "contact", server)
	}
	_, listing := fetch(t, s["static"].Facts["url"]+"/extra/")
	assert.NotContains(t, listing, ".env")
	for _, path := range []string{"/a.csv", "/a.webmanifest", "/index.html"} {
		types := map[string]bool{}
		for _, server := range []string{"nginx", "plain"} {
			resp, err := http.Get(s[server].Facts["url"] + path)
			require.NoError(t, err)
			resp.Body.Close()
			types[resp.Header.Get("Content-Type")] = true
		}
		assert.Len(t, types, 1, "%s: %v", path, types)
	}
}
