package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

type finding struct{ ID, Level, Service, What, Where, Why, Remedy string }

// findings are what the checks find, by id; what would stop a start is the
// exit code.
func (p *project) findings() map[string]finding {
	p.t.Helper()
	r := p.run("check", "--json")
	var all struct{ Findings []finding }
	require.NoError(p.t, json.Unmarshal([]byte(r.stdout), &all), r.stderr)
	out := map[string]finding{}
	code := 0
	for _, f := range all.Findings {
		out[f.ID] = f
		if f.Level == "stops" {
			code = 1
		}
	}
	assert.Equal(p.t, code, r.code)
	return out
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Each finding is made true and false again on the real machine.
func TestChecksComeAndGo(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.NeedRoot(t)
	number := freePort(t)
	var listener net.Listener
	listen := func(*project) {
		var err error
		listener, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", number))
		require.NoError(t, err)
	}
	unlisten := func(*project) { listener.Close() }
	write := func(name, text string) func(*project) { return func(p *project) { p.write(name, text) } }
	const api = "[service.api]\nrun = \"sleep 1000\"\n"
	for name, c := range map[string]struct {
		declaration string
		spoil, mend func(*project)
		id, level   string
		says        string
	}{
		"program":      {"[service.api]\nrun = \"./tool\"\n", nil, write("tool", "#!/bin/sh\n"), "program/api", "stops", "there is no program DIR/tool"},
		"version":      {"[service.a]\nkind = \"redis\"\nversion = \">=99\"\n", nil, write("neighbour.local.toml", "service.a.version = \"*\"\n"), "program/a", "stops", `no installed Redis meets version = ">=99"`},
		"runtime":      {api + "uses = { perl = \">=99\" }\n", nil, write("neighbour.local.toml", "service.api.uses = { perl = \">1\" }\n"), "program/api", "stops", `uses perl = ">=99", and `},
		"port":         {api + fmt.Sprintf("port = %d\n", number), listen, unlisten, "port/api", "stops", fmt.Sprintf("port %d is held by e2e.test", number)},
		"folder":       {api + "writes = [\"up\"]\n", nil, func(p *project) { require.NoError(t, os.Mkdir(filepath.Join(p.dir, "up"), 0o755)) }, "writes[0]/api", "stops", "the folder DIR/up doesn't exist"},
		"rights":       {"[service.a]\nkind = \"postgres\"\nwrites = [\"up\"]\n", func(p *project) { require.NoError(t, os.Mkdir(filepath.Join(p.dir, "up"), 0o755)) }, func(p *project) { require.NoError(t, os.Chmod(filepath.Join(p.dir, "up"), 0o777)) }, "writes[0]/a", "stops", "can't be written by postgres: it is of root with mode 0755"},
		"web root":     {"[service.a]\nkind = \"static\"\nroot = \"site\"\n", nil, write("site/index.html", "x"), "program/a", "stops", "its web root DIR/site doesn't exist"},
		"index":        {"[service.a]\nkind = \"static\"\nroot = \"site\"\n", write("site/a.css", "x"), write("site/index.html", "x"), "kind[0]/a", "warns", "has no index.html, so its address shows no page"},
		"secrets":      {"[service.a]\nkind = \"static\"\nroot = \".\"\nlisting = true\n", nil, func(p *project) { p.write("up/a", ""); p.write("neighbour.local.toml", "service.a.root = \"up\"\n") }, "kind[0]/a", "warns", "its web root holds what must not be served: "},
		"packages":     {api + "prepare = [{ run = \"true\", when = [\"lock\"] }]\n", write("lock", "1"), func(p *project) { p.must("start"); p.must("stop") }, "prepare[0]/api", "note", "true is to run: it has not run yet"},
		"drift":        {api + "[service.shelf]\nkind = \"redis\"\nport = 6399\n", write(".env", "REDIS_URL=redis://localhost:6400\n"), write(".env", "REDIS_URL=redis://localhost:6399\n"), "env/.env/REDIS_URL", "warns", "REDIS_URL points elsewhere than shelf: port 6400, ours is 6399"},
		"outside":      {fmt.Sprintf("[service.t]\nkind = \"outside\"\nhealth = { tcp = \"127.0.0.1:%d\" }\n", number), nil, listen, "outside/t", "stops", "it doesn't answer: connection refused"},
		"variable":     {api + "env.X = \"${env.SURELY_UNSET}\"\n", nil, write("neighbour.local.toml", "service.api.env.X = \"1\"\n"), "values/api", "stops", "the variable SURELY_UNSET is not set"},
		"clock":        {"[service.a]\nkind = \"redis\"\n", func(p *project) { p.must("start"); p.must("stop"); future(t, p, 2*time.Hour) }, func(p *project) { future(t, p, 0) }, "clock/data", "warns", "behind the time of a data file"},
		"data":         {"[service.a]\nkind = \"redis\"\n", func(p *project) { p.must("start"); p.must("stop"); made(t, p, `"version": "`, `"version": "9`) }, func(p *project) { made(t, p, `"version": "9`, `"version": "`) }, "data/a", "stops", "was last used by version 9"},
		"not an entry": {api, write(".env", "A=1\nwhat\n"), write(".env", "A=1\n"), "envfile/.env:2", "warns", `"what" is not of the form NAME=value`},
		"open quote":   {api, write(".env", "A=\"1\n"), write(".env", "A=\"1\"\n"), "envfile/.env:1", "warns", "isn't closed"},
		"binary":       {api, write(".env", "A=1\x00\n"), write(".env", ""), "envfile/.env", "warns", "it is not a text"},
		"huge":         {api, write(".env", strings.Repeat("A=1\n", 13<<20)), write(".env", ""), "envfile/.env", "warns", "it has 52 MB, far more than an env file has"},
		"a folder":     {api, func(p *project) { require.NoError(t, os.Mkdir(filepath.Join(p.dir, ".env"), 0o755)) }, func(p *project) { require.NoError(t, os.Remove(filepath.Join(p.dir, ".env"))) }, "envfile/.env", "warns", "it is a folder"},
		"dangling":     {api, func(p *project) { require.NoError(t, os.Symlink("gone", filepath.Join(p.dir, ".env"))) }, write("gone", ""), "envfile/.env", "warns", "it is a link to gone, which doesn't exist"},
		"an errand":    {api + "[errand.count]\nrun = \"no-such-program\"\n", nil, write("neighbour.toml", api), "errand/count", "warns", "errand count: no-such-program is not installed"},
		"file alone":   {"[service.web]\nrun = \"sleep 1\"\nenv.REDIS_URL = \"${shelf.url}\"\n" + api + "[service.shelf]\nkind = \"redis\"\nport = 6399\n", write(".env", "A=1\nREDIS_URL=redis://localhost:"+itoa(freePort(t))+"\n"), write(".env", "A=1\n"), "env/.env/REDIS_URL", "warns", "nothing listens on port "},
	} {
		t.Run(name, func(t *testing.T) {
			p := newProject(t, c.declaration)
			for dir := p.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) {
				require.NoError(t, os.Chmod(dir, 0o755)) // other accounts get there
			}
			if c.spoil != nil {
				c.spoil(p)
			}
			f, found := p.findings()[c.id]
			if assert.True(t, found, "%v", p.findings()) {
				assert.Contains(t, strings.ReplaceAll(f.What, p.dir, "DIR"), c.says)
				assert.Equal(t, c.level, f.Level)
				assert.NotEmpty(t, f.Where+f.Service)
			}
			c.mend(p)
			assert.NotContains(t, p.findings(), c.id)
			if listener != nil {
				listener.Close()
			}
		})
	}
}

// made changes what is known of who made a service's data.
func made(t *testing.T, p *project, from, to string) {
	t.Helper()
	path := p.state("made.json")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(b), from, to, 1)), 0o600))
}

// future sets the time of a service's data file ahead.
func future(t *testing.T, p *project, by time.Duration) {
	t.Helper()
	at := time.Now().Add(by)
	require.NoError(t, filepath.WalkDir(p.state("data", "a"), func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chtimes(path, at, at)
	}))
}

func TestChecksOfTheMachine(t *testing.T) {
	testkit.NeedRoot(t)
	p := newProject(t, program("api"))
	assert.Contains(t, p.must("check"), "nothing found that would go wrong")
	cmd := exec.Command("/bin/sh", "-c", "ulimit -n 200; exec '"+binary+"' check")
	cmd.Dir = p.dir
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "a process may have only 200 files open")

	small := filepath.Join(p.dir, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=8m"); err != nil {
		testkit.Lacking(t, "no file system can be mounted here")
	}
	t.Cleanup(func() { _ = syscall.Unmount(small, 0) })
	q := newProjectIn(t, small, program("api"))
	assert.Contains(t, q.findings()["disk/"+q.dir].What, "MB are free where data is kept")

	// What is for this machine only is not committed.
	for _, args := range [][]string{{"init", "-q"}, {"add", "-f", "neighbour.local.toml", "env"}} {
		p.write("neighbour.local.toml", "service.api.env.A = \"1\"\n")
		p.write("env", "MINE=1\n")
		git := exec.Command("git", args...)
		git.Dir = p.dir
		if out, err := git.CombinedOutput(); err != nil {
			testkit.Lacking(t, "git: "+string(out))
		}
	}
	assert.Contains(t, p.findings()["git/local"].What, "git tracks it")
	p.write("neighbour.toml", program("api", "port = "+itoa(freePort(t)), "health = { run = \"true\" }")+"[env]\nwrite = \"env\"\nkeys = { URL = \"${api.url}/it's\" }\n")
	assert.Contains(t, p.findings()["git/env"].What, "git tracks env, which each start writes to")
	p.must("start")
	b, err := os.ReadFile(filepath.Join(p.dir, "env"))
	require.NoError(t, err)
	port := p.status().Service["api"].Port
	assert.Equal(t, fmt.Sprintf("MINE=1\n# neighbour: begin, written at each start; what is changed in here is lost\nURL=\"http://127.0.0.1:%d/it's\"\n# neighbour: end\n", port), string(b))
	assert.Contains(t, p.must("env", "api", "--why"), "A=1")
	p.write("env", strings.Replace(string(b), "# neighbour: end", "", 1))
	p.must("stop")
	p.must("start")
	s := open(t, p.dir, 142, 38)
	s.see("env can't be written: the lines")
}

// A port that a stranger, another project, or another user's process holds,
// and what can be done about each, on the screen.
func TestPortsAndRemedies(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	testkit.NeedRoot(t)
	number := freePort(t)
	stranger := func(account *proc.Account) *exec.Cmd {
		cmd := exec.Command("redis-server", "--port", itoa(number), "--bind", "127.0.0.1", "--save", "", "--dir", "/tmp")
		cmd.SysProcAttr = account.Attributes()
		require.NoError(t, cmd.Start())
		go func() { _ = cmd.Wait() }()
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", "127.0.0.1:"+itoa(number))
			if err == nil {
				c.Close()
			}
			return err == nil
		}, patience, 10*time.Millisecond)
		return cmd
	}
	held := fmt.Sprintf("port %d is held by redis-server", number)
	declaration := program("base") + fmt.Sprintf("[service.shelf] # ours\nkind = \"redis\"\nport = %d # fixed\n[service.top]\nrun = \"sleep 1000\"\nneeds = [\"shelf\"]\nenv.URL = \"${shelf.port}\"\n", number)
	p := newProject(t, declaration)

	// Of another user, seen by root and by somebody who may not look.
	nobody, err := proc.FindAccount("nobody")
	require.NoError(t, err)
	cmd := stranger(nobody)
	f := p.findings()["port/shelf"]
	assert.Regexp(t, fmt.Sprintf("%s .*, pid %d of nobody, started ", held, cmd.Process.Pid), f.What)
	assert.Contains(t, f.What, "not ours")
	other := exec.Command(binary, "-C", p.dir, "check")
	other.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 12345, Gid: 12345}}
	other.Env = []string{"HOME=/nonexistent", "PATH=" + os.Getenv("PATH")}
	for dir := p.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	out, _ := other.CombinedOutput()
	assert.Contains(t, string(out), fmt.Sprintf("port %d is held by a process of nobody, of which no more can be seen from here", number))

	// Asked to end.
	s := open(t, p.dir, 142, 38)
	s.see("0 of 3 ready")
	s.see(`shelf ─+ ✖ ╮`)
	s.press("7")
	s.see(`✖ stops +shelf +` + held)
	s.press("d")
	s.see(fmt.Sprintf(`SIGTERM is sent to pid %d of nobody: +redis-server`, cmd.Process.Pid))
	s.press("Escape")
	assert.NoError(t, cmd.Process.Signal(syscall.Signal(0)), "nothing ends without a yes")
	s.press("d", "Enter")
	s.see(fmt.Sprintf("port %d is free", number))
	s.gone(`stops +shelf`)

	// Another port: temporary, for this machine, or declared.
	cmd = stranger(nil)
	s.press("r")
	s.see(`✖ stops +shelf`)
	offered := func(s *screen) int {
		number, err := strconv.Atoi(regexp.MustCompile(`a +use (\d+) now`).FindStringSubmatch(s.see(`a +use \d+ now`))[1])
		require.NoError(t, err)
		return number
	}
	free := offered(s)
	s.press("a")
	s.see(fmt.Sprintf(`shelf has port %d until`, free))
	s.press("1")
	p.must("start")
	assert.Equal(t, free, p.status().Service["shelf"].Port)
	assert.Equal(t, fmt.Sprintf("URL=%d\n", free), p.must("run", "--with", "top", "--", "sh", "-c", "echo URL=$URL"))
	p.must("stop")
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "✖ shelf")
	p.must("stop")
	s = open(t, p.dir, 142, 38)
	s.press("7")
	s.see(`✖ stops +shelf`)
	free = offered(s)
	s.press("c")
	p.holds("neighbour.local.toml", fmt.Sprintf("[service.shelf]\nport = %d\n", free))
	s.gone(`stops +shelf`)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "neighbour.local.toml")))
	s.press("r")
	s.press("q")
	p.must("stop")
	s = open(t, p.dir, 142, 38)
	s.press("7")
	s.see(`✖ stops +shelf`)
	free = offered(s)
	s.press("b")
	p.holds("neighbour.toml", strings.Replace(declaration, itoa(number)+" # fixed", itoa(free)+" # fixed", 1))
	p.write("neighbour.toml", declaration)
	p.must("stop")

	// What is there can be used as it is.
	s = open(t, p.dir, 142, 38)
	s.press("7")
	s.see(`✖ stops +shelf`)
	s.press("e", "Enter")
	s.see(`shelf is outside in neighbour\.local\.toml`)
	s.gone(`stops +shelf`)
	p.must("start")
	assert.Equal(t, "outside", p.status().Service["shelf"].Kind)
	p.must("stop")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "neighbour.local.toml")))
	require.NoError(t, cmd.Process.Kill())

	// Another project's.
	q := newProject(t, fmt.Sprintf("[service.drawer]\nkind = \"redis\"\nport = %d\n", number))
	q.must("start")
	f = p.findings()["port/shelf"]
	assert.Contains(t, f.What, "the project's in "+q.dir+", drawer")
	s = open(t, p.dir, 142, 38)
	s.press("7")
	s.see(`✖ stops +shelf`)
	s.press("d", "Enter")
	s.see(`stopped in .*: drawer`)
	s.gone(`stops +shelf`)
	assert.Equal(t, "stopped", q.status().Service["drawer"].State)
	p.must("start")
}

// A port that is taken between the check and the bind ends in the same words.
func TestPortTakenInARace(t *testing.T) {
	t.Parallel()
	number := freePort(t)
	p := newProject(t, fmt.Sprintf("[service.api]\nrun = \"sh -c 'sleep 1; exit 98'\"\nport = %d\n", number))
	p.must("start", "--no-wait")
	p.until("api", "starting")
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", number))
	require.NoError(t, err)
	defer l.Close()
	api := p.until("api", "failed")
	// A child that another test is just starting has the listener, too.
	assert.Regexp(t, fmt.Sprintf(`port %d is held by e2e.test .*, pid \d+`, number), api.Reason)
}

func TestWiringOnTheScreen(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	p := newProject(t, `[service.shelf]
kind = "redis"
restart = { when = "always" }
[service.ledger]
kind = "nats"
optional = true
[service.api]
run = "sleep 1000"
[service.api.env]
CACHE_URL = "${shelf.url}"
BUS = "${ledger.host}:${ledger.port}"
MODE = "dev"
[profile.away]
service.api.env.MODE = "away"
`)
	p.write(".env", "CACHE_URL=redis://localhost:1\nMODE=away\n")
	p.write(".env.production", "CACHE_URL=redis://:hunter2@cache.example.org:6379\n")
	p.env = []string{"MODE=outer"}
	p.must("start", "--profile", "away")
	why := p.must("env", "api", "--why")
	assert.Contains(t, why, "# from shelf.url in neighbour.toml:10:13\n# goes before .env:1\n# goes before .env.production:1\nCACHE_URL=")
	assert.Contains(t, why, "# goes before neighbour.toml:12:8\n# goes before the environment of the latest start\n# goes before .env:2 (the same value)\nMODE=away")

	s := openWith(t, p.env, p.dir, 142, 38)
	s.see("ready")
	s.press("3")
	text := s.see(`▌ variables 3 +ports 2 +env files`)
	assert.Regexp(t, `reads from +\S+`, text)
	assert.Regexp(t, `api +.*● url`, text)
	assert.Regexp(t, `api +.*● host port`, text)
	s.press("Down")
	text = s.see(`chain +\$\{shelf\.url\} +→ +CACHE_URL +→ +environment of api, pid \d+`)
	assert.Regexp(t, `goes before +\.env:1`, text)
	s.fits(142, 38)
	s.press("Tab")
	text = s.see(`(?m)is +by +who listens`)
	assert.Regexp(t, `shelf +● in use +IPv4 +redis-server .*, pid \d+`, text)
	s.press("Tab")
	s.see(`\.env:1 +CACHE_URL +▲ points elsewhere +api +port 1, ours is \d+`)
	text = s.see(`\.env:2 +MODE +.*= same`)
	assert.NotContains(t, text, "hunter2")
	s.press("v")
	assert.NotContains(t, s.text(), "hunter2", "a production file's values are never shown")

	// A source that has changed while its reader runs.
	shelf := p.status().Service["shelf"]
	require.NoError(t, syscall.Kill(shelf.PID, syscall.SIGKILL))
	var l net.Listener
	require.Eventually(t, func() bool {
		var err error
		l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", shelf.Port))
		return err == nil
	}, patience, time.Millisecond)
	defer l.Close()
	require.Eventually(t, func() bool {
		now := p.status().Service["shelf"]
		return now.State == "ready" && now.Port != shelf.Port
	}, patience, 50*time.Millisecond)
	s.press("Tab", "r")
	s.see(fmt.Sprintf(`CACHE_URL +redis://127\.0\.0\.1:%d`, p.status().Service["shelf"].Port))
	s.gone("stale") // api was restarted
	// What the keeper could not see while it was not there is said.
	p.killKeeper()
	given := fmt.Sprintf(`{"shelf":%d,"ledger":%d}`, freePort(t), p.status().Service["ledger"].Port)
	require.NoError(t, os.WriteFile(p.state("ports.json"), []byte(given), 0o600))
	p.killKeeper()
	p.must("start")
	s.gone("keeper does not answer")
	s.press("r")
	s.see(`CACHE_URL .*▲ stale`)
	s.see(`restart api to give it this one`)
	p.must("restart", "api")
	s.press("r")
	s.gone("stale")
	s = openWith(t, p.env, p.dir, 80, 24)
	s.press("3")
	s.see("variables 3")
	s.fits(80, 24)
	s.press("7")
	s.see("checks")
	s.fits(80, 24)
}

func TestTroubleHasItsFindings(t *testing.T) {
	t.Parallel()
	p := newDemo(t, true)
	r := runWith(t, p.env, t.TempDir(), "demo", "--trouble")
	require.Equal(t, 1, r.code)
	var found map[string]finding
	for _, id := range []string{"port/noticeboard", "writes[0]/labels", "program/kiln", "outside/tariffs", "env/.env/SMTP_HOST", "env/.env/API_URL", "envfile/.env:5"} {
		// A machine that is very busy may not get through a check in time.
		assert.Eventually(t, func() bool {
			found = p.findings()
			_, there := found[id]
			return there
		}, patience, 100*time.Millisecond, "%s is not among %v", id, found)
	}
}

// Programs inherit the environment of the command that starts them, not of the shell that once
// started the keeper.
func TestEnvironmentOfTheCaller(t *testing.T) {
	t.Parallel()
	first, second := t.TempDir(), t.TempDir()
	for dir, says := range map[string]string{first: "old", second: "new"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "drill"), []byte("#!/bin/sh\necho "+says+" $SHED_MODE $DECLARED\nexec sleep 1000\n"), 0o755))
	}
	p := newProject(t, "[service.api]\nrun = \"drill\"\nenv.DECLARED = \"yes\"\n"+program("other"))
	from := func(dir, mode string) {
		p.env = []string{"PATH=" + dir + ":" + os.Getenv("PATH"), "SHED_MODE=" + mode, "DECLARED=no"}
	}
	said := func(want ...string) {
		p.eventually(func(status) bool { return slices.Equal(want, p.printed("api")) })
	}
	from(first, "one")
	p.must("start")
	said("old one yes")
	from(second, "two")
	assert.NotContains(t, p.run("check").stdout, "than it would get now")
	p.must("start") // nothing is started
	assert.Contains(t, p.run("check").stdout, "it was started with another PATH and SHED_MODE than it would get now")
	assert.Contains(t, p.must("env", "api", "--why"), "# it was started with another PATH and SHED_MODE than it would get now; start it again: neighbour restart api")
	p.must("restart", "api")
	said("old one yes", "new two yes")
	assert.NotContains(t, p.findings(), "inherited/api")
	from(first, "three")
	p.write("neighbour.toml", "[service.api]\nrun = \"drill\"\nenv.DECLARED = \"still\"\n"+program("other"))
	p.must("apply")
	said("old one yes", "new two yes", "old three still")
}
