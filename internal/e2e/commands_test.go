package e2e

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStartStatusStop(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[project]\nname = \"shed\"\n"+program("base")+program("top", `needs = ["base"]`))
	s := p.status()
	assert.Nil(t, s.Keeper, "asking starts nothing")
	assert.Equal(t, "stopped", s.Service["top"].State)
	assert.NoFileExists(t, p.state("run", "keeper.sock"))

	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Regexp(t, `^shed: 2 of 2 ready after \d`, r.stdout)
	assert.Regexp(t, `(?s)base\s+ready.*top\s+starting.*top\s+ready`, r.stderr, "in order, a line for each change")

	s = p.status()
	assert.Equal(t, "shed", s.Project)
	assert.NotZero(t, s.Keeper.PID)
	top := s.Service["top"]
	assert.Equal(t, service{Name: "top", Kind: "program", State: "ready", Needs: []string{"base"}, Step: 2, PID: top.PID, ReadyMS: top.ReadyMS, Facts: map[string]string{}}, top)
	assert.Contains(t, p.must("status"), "Ready for")

	r = p.run("start")
	assert.Zero(t, r.code)
	assert.Equal(t, top.PID, p.status().Service["top"].PID, "a second start joins the first")

	assert.Equal(t, "stopped: top\n", p.must("stop", "top"))
	assert.Equal(t, "ready", p.status().Service["base"].State)
	p.must("start", "top")
	assert.Equal(t, "stopped: base, top\n", p.must("stop", "base"), "and what needs it")
	assert.Equal(t, "nothing was running\n", p.must("stop"))
	assert.Nil(t, p.status().Keeper, "without a name the keeper ends, too")

	r = p.run("restart", "base")
	assert.Zero(t, r.code, r.stderr)
	p.must("start")
	before := p.status().Service
	r = p.run("restart", "base")
	assert.Contains(t, r.stderr, "needing what was restarted: top")
	now := p.status().Service
	assert.NotEqual(t, before["base"].PID, now["base"].PID)
	assert.Equal(t, before["top"].PID, now["top"].PID)

	var stopped struct{ Stopped []string }
	require.NoError(t, json.Unmarshal([]byte(p.must("stop", "--json")), &stopped))
	assert.Equal(t, []string{"base", "top"}, stopped.Stopped)
	info, err := os.Stat(p.state())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

func TestExitCodesAndMessages(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api"))
	empty := t.TempDir()
	broken := newProject(t, "[service.api\n")
	many := newProject(t, "[service.api]\nrun = \"x\"\nprot = 1\nneeds = [\"db\"]\n")
	for name, c := range map[string]struct {
		dir  string
		args []string
		code int
		says []string
	}{
		"no declaration":    {empty, []string{"start"}, 1, []string{"no neighbour.toml in", "neighbour init"}},
		"the same, status":  {empty, []string{"status"}, 1, []string{"To begin"}},
		"no such folder":    {empty, []string{"-C", "nowhere", "start"}, 1, []string{"nowhere is not a folder"}},
		"broken TOML":       {broken.dir, []string{"start"}, 1, []string{"neighbour.toml:1:", "not TOML"}},
		"all mistakes":      {many.dir, []string{"start"}, 1, []string{`:3:1: service.api.prot`, `did you mean "port"?`, `:4:10: service.api.needs`}},
		"unknown service":   {p.dir, []string{"start", "apo"}, 2, []string{`no service "apo"; did you mean "api"?`}},
		"unknown in stop":   {p.dir, []string{"stop", "apo"}, 2, []string{`did you mean "api"?`}},
		"unknown in logs":   {p.dir, []string{"logs", "x"}, 2, []string{"the declaration has: api"}},
		"unknown command":   {p.dir, []string{"stat"}, 2, []string{`no command "stat"; did you mean "start"?`}},
		"unknown flag":      {p.dir, []string{"start", "--fast"}, 2, []string{"--fast"}},
		"too few words":     {p.dir, []string{"reset"}, 2, []string{"reset needs the name of a service"}},
		"unknown format":    {p.dir, []string{"env", "api", "--format", "xml"}, 2, []string{"dotenv, shell or json"}},
		"a bad expression":  {p.dir, []string{"logs", "--grep", "("}, 2, []string{"--grep"}},
		"no terminal":       {p.dir, nil, 2, []string{"needs a terminal"}},
		"help of a command": {p.dir, []string{"start", "--help"}, 0, nil},
	} {
		t.Run(name, func(t *testing.T) {
			r := runIn(t, c.dir, c.args...)
			assert.Equal(t, c.code, r.code, r.stderr)
			for _, s := range c.says {
				assert.Contains(t, r.stderr, s)
			}
		})
	}
	assert.Contains(t, p.must("version"), "neighbour ")
	assert.Nil(t, p.status().Keeper, "none of this started anything")
}

func TestWhatCantStart(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, held, _ := net.SplitHostPort(l.Addr().String())
	for name, c := range map[string]struct{ toml, says string }{
		"no program":     {`run = "no-such-program --x"`, `no-such-program is not installed \(looked in PATH\)`},
		"known package":  {`run = "deno x.ts"`, `deno is not installed`},
		"no file":        {`run = "./server"`, `there is no program .*/server; build it, or correct the command`},
		"not executable": {`run = "./neighbour.toml"`, `is not executable; make it so with: chmod \+x`},
		"no folder":      {"run = \"sleep 9\"\ndir = \"api\"", `its working folder .*/api doesn't exist; create it, or correct dir = "api"`},
		"held port":      {"run = \"sleep 9\"\nport = " + held, `port ` + held + ` is held by e2e.test .*, pid \d+, started \d+ (s|min) ago in .*, not ours`},
		"exits at once":  {`run = "sh -c 'echo the shed is shut; exit 3'"`, `(?s)exit 3.* before it was ready\n    the shed is shut`},
		"never ready":    {"run = \"sleep 9\"\nport = 4199\nhealth = { http = \"/\", within = \"300ms\" }", `not ready within 300 ms; newest check: connection refused`},
		"unset variable": {"run = \"sleep 9\"\nenv.A = \"${env.NO_SUCH_VARIABLE}\"", `the variable NO_SUCH_VARIABLE is not set`},
	} {
		t.Run(name, func(t *testing.T) {
			if strings.HasPrefix(c.toml, `run = "./neighbour.toml"`) {
				c.toml += "\n"
			}
			p := newProject(t, "[service.api]\n"+c.toml+"\n"+program("web", `needs = ["api"]`)+program("other"))
			require.NoError(t, os.Chmod(filepath.Join(p.dir, "neighbour.toml"), 0o644))
			r := p.run("start")
			assert.Equal(t, 1, r.code)
			assert.Regexp(t, c.says, r.stderr)
			assert.Contains(t, r.stdout, "1 of 3 ready")
			s := p.status().Service
			assert.Equal(t, "failed", s["api"].State)
			assert.Equal(t, "waiting", s["web"].State)
			assert.Equal(t, "for api, which failed", s["web"].Reason)
			assert.Equal(t, "ready", s["other"].State, "the rest goes on")
		})
	}
}

func TestPortsOfProjects(t *testing.T) {
	t.Parallel()
	listening := "[service.api]\nrun = \"" + binary + " emulate mail --listen 127.0.0.1:${api.port}\"\nport = 4233\n"
	one, two := newProject(t, listening), newProject(t, listening)
	one.must("start")
	r := two.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "the project's in "+one.dir+", api", "another project's holder is named")

	free := "[service.api]\nrun = \"sleep 1000\"\nenv.PORT_WAS = \"${api.port}\"\nhealth = { run = \"true\" }\n"
	three, four := newProject(t, free), newProject(t, free)
	three.must("start")
	four.must("start")
	a, b := three.status().Service["api"].Port, four.status().Service["api"].Port
	assert.NotEqual(t, a, b, "each project has its own, also where nothing listens yet")
	three.must("stop")
	three.must("start")
	assert.Equal(t, a, three.status().Service["api"].Port, "the same again next time")
}

func TestPortHeldByAnotherServiceOfTheProject(t *testing.T) {
	t.Parallel()
	number := itoa(freePort(t))
	p := newProject(t, "[service.one]\nrun = \""+binary+" emulate mail --listen 127.0.0.1:"+number+"\"\nhealth = { tcp = \"127.0.0.1:"+number+"\" }\n[service.two]\nrun = \"sleep 1000\"\nport = "+number+"\nneeds = [\"one\"]\n")
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `port \d+ is held by neighbour .*, pid \d+, started \d+ s ago in .*, this project's one`, r.stderr)
}

func TestEnvAndLogs(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.api]
run = "sh -c 'echo one; echo two >&2; printf \"\\033[31mred\\033[2J\\n\"; exec sleep 1000'"
port = 4299
health = { log = "two" }
env = { A = "it's ${api.port}", B = "x" }
`)
	p.must("start")
	assert.Equal(t, "A=\"it's 4299\"\nB=x\nPORT=4299\n", p.must("env", "api"))
	assert.Equal(t, "# from api.port in neighbour.toml:6:13\nexport A='it'\\''s 4299'\n# as declared in neighbour.toml:6:37\nexport B=x\n# the service's port\nexport PORT=4299\n", p.must("env", "api", "--format", "shell", "--why"))
	assert.JSONEq(t, `{"A": "it's 4299", "B": "x", "PORT": "4299"}`, p.must("env", "api", "--format", "json"))
	b, err := os.ReadFile("/proc/" + itoa(p.status().Service["api"].PID) + "/environ")
	require.NoError(t, err)
	assert.Contains(t, string(b), "\x00A=it's 4299\x00", "and that is what the process has")

	out := p.must("logs")
	assert.Regexp(t, `(?m)^\d\d:\d\d:\d\d  api  one$`, out)
	assert.Regexp(t, `^\d\d:\d\d:\d\d  api  two\n$`, p.must("logs", "api", "--grep", "^tw"))
	assert.Equal(t, 1, strings.Count(p.must("logs", "-n", "1"), "\n"))
	assert.Empty(t, p.must("logs", "--since", "1ns"))

	follow := exec.Command(binary, "logs", "-f", "-n", "1")
	follow.Dir = p.dir
	var got safeBuffer
	follow.Stdout = &got
	require.NoError(t, follow.Start())
	require.Eventually(t, func() bool { return got.String() != "" }, patience, 10*time.Millisecond, "it follows from there on")
	p.must("restart", "api")
	assert.Eventually(t, func() bool { return strings.Contains(got.String(), "api  one\n") }, patience, 10*time.Millisecond)
	require.NoError(t, follow.Process.Signal(os.Interrupt))
	assert.NoError(t, follow.Wait())
}

func TestPathsWithSpacesAndLength(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"a folder with 'quotes' and spaces", strings.Repeat("very-long-", 20)} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		p := newProjectIn(t, dir, program("api")+"[service.postbox]\nkind = \"mail\"\n")
		p.must("start")
		assert.Equal(t, "ready", p.status().Service["postbox"].State)
		p.must("stop")
	}
}

func TestInterruptedStartGoesOn(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.slow]\nrun = \"sleep 1000\"\nhealth = { run = \"test -e go\" }\n")
	cmd := exec.Command(binary, "start")
	cmd.Dir = p.dir
	var said safeBuffer
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	p.until("slow", "starting")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	assert.Error(t, cmd.Wait())
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	assert.Contains(t, said.String(), "no longer waiting; the start goes on")
	p.write("go", "")
	p.until("slow", "ready")
}

func TestBrokenFileCanStillBeStopped(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api"))
	p.must("start")
	p.write("neighbour.toml", "[service.api\n")
	assert.Equal(t, 1, p.run("status").code)
	r := p.run("stop")
	assert.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "has errors now")
	assert.Empty(t, p.left())
}

func TestChangedDeclaration(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"no-such-program\"\n")
	assert.Equal(t, 1, p.run("start").code)
	keeper := p.status().Keeper.PID
	p.write("neighbour.toml", program("api")+program("new"))
	r := p.run("start")
	assert.Zero(t, r.code, "with nothing running, the file as it is now counts: %s", r.stderr)
	assert.Equal(t, keeper, p.status().Keeper.PID, "the keeper has read it, in place")
	pid := p.status().Service["api"].PID

	p.write("neighbour.toml", program("api", "env.A = \"1\"")+program("new"))
	r = p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "neighbour.toml was changed while services run")
	assert.Equal(t, pid, p.status().Service["api"].PID, "what runs is not disturbed")
	p.must("stop")
	p.must("start")
	b, err := os.ReadFile("/proc/" + itoa(p.status().Service["api"].PID) + "/environ")
	require.NoError(t, err)
	assert.Contains(t, string(b), "\x00A=1\x00")
}

func TestJSONOfTheOthers(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"sh -c 'echo {}; exec sleep 1000'\"\nenv.A = \"x\"\nhealth = { log = \"{}\" }\n")
	var started struct {
		Keeper   struct{ PID int }
		Services []service
	}
	require.NoError(t, json.Unmarshal([]byte(p.must("start", "--json")), &started))
	assert.Equal(t, p.status().Keeper.PID, started.Keeper.PID)
	assert.Equal(t, "ready", started.Services[0].State)
	var line struct {
		Service, Text string
		At            time.Time
		Offset        int64
	}
	require.NoError(t, json.Unmarshal([]byte(p.must("logs", "--json")), &line))
	assert.Equal(t, "api {}", line.Service+" "+line.Text)
	assert.WithinDuration(t, time.Now(), line.At, 10*time.Second)
	var vars []map[string]any
	require.NoError(t, json.Unmarshal([]byte(p.must("env", "api", "--json", "--why")), &vars))
	assert.Equal(t, []map[string]any{{"service": "api", "name": "A", "value": "x", "declared": "x", "where": "neighbour.toml:3:9"}}, vars)
	var v map[string]string
	require.NoError(t, json.Unmarshal([]byte(p.must("version", "--json")), &v))
	assert.NotEmpty(t, v["version"])
	assert.Contains(t, p.must("completion", "bash"), "neighbour")
	assert.Contains(t, p.must("__complete", "start", ""), "api\n")
}

// What a service gets is told as it is where it runs, whatever the shell has
// set in which it is asked.
func TestEnvironmentIsTheKeepers(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"sleep 1000\"\nenv.SHED = \"${env.SHED_NAME:-north}\"\nenv.HOME = \"shed\"\n")
	elsewhere := func(args ...string) string {
		cmd := exec.Command(binary, args...)
		cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "SHED_NAME=south", "HOME=/south")
		out, err := cmd.Output()
		require.NoError(t, err)
		return string(out)
	}
	assert.Contains(t, elsewhere("env", "api"), "SHED=south", "nothing runs, so this shell is where a start would come from")
	p.must("start")
	assert.Contains(t, elsewhere("env", "api"), "SHED=north")
	assert.Equal(t, "north\n", elsewhere("run", "--with", "api", "--", "sh", "-c", "echo $SHED"))
	p.write("neighbour.toml", "[service.api]\nrun = \"sleep 1000\"\nenv.SHED = \"west\"\n")
	assert.Contains(t, elsewhere("env", "api"), "SHED=west", "the file as it is now is what was asked about")
}

// On a branch that has no declaration what runs is told of, and can be stopped.
func TestUndeclared(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"sleep 1000\"\n")
	p.must("start")
	pid := p.status().Service["api"].PID
	file := filepath.Join(p.dir, "neighbour.toml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.Remove(file))
	for _, command := range []string{"status", "start", "logs"} {
		r := p.run(command)
		assert.NotZero(t, r.code, command)
		assert.Contains(t, r.stderr, "what it declared runs still", command)
	}
	require.NoError(t, os.WriteFile(file, text, 0o644))
	assert.Equal(t, pid, p.status().Service["api"].PID)
	require.NoError(t, os.Remove(file))
	r := p.run("stop")
	assert.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stdout+r.stderr, "stopped: api")
	assert.Error(t, syscall.Kill(pid, 0))
	assert.Contains(t, p.run("status").stderr, "To begin")
	state := p.state()
	assert.DirExists(t, state)
	r = p.run("purge", "--yes")
	assert.Zero(t, r.code, r.stderr)
	assert.NoDirExists(t, filepath.Join(p.dir, ".neighbour"))
	assert.NoDirExists(t, state)
}
