package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/record/errand"
)

// errand returns an errand as it is listed.
func (p *project) errand(name string) insight.Errand {
	p.t.Helper()
	var all []insight.Errand
	require.NoError(p.t, json.Unmarshal([]byte(p.must("errands", "--json")), &all))
	for _, e := range all {
		if e.Name == name {
			return e
		}
	}
	require.Fail(p.t, "there is no errand "+name)
	return insight.Errand{}
}

// last returns an errand's latest run.
func (p *project) lastRun(name string) errand.Run {
	p.t.Helper()
	r, _ := p.errand(name).Last()
	return r
}

const someErrands = `
[service.ledger]
run = "sh -c 'echo up; exec sleep 1000'"
health = { log = "up" }
[service.api]
run = "sleep 1000"
dir = "app"
env.LEDGER = "${ledger.port}"
needs = ["ledger"]
[service.ledger.env]
A = "1"
[errand.list]
about = "list what it gets"
run = ["printf", "<%s>"]
[errand.line]
run = "true && printf '<%s>'"
[errand.where]
with = "api"
run = "pwd; printenv OWN; cat"
env.OWN = "own"
[errand.fails]
run = "echo before; echo 'Error: no such tool' >&2; exit 7"
[errand.waits]
run = "trap 'echo told; exit 4' TERM; echo begun; echo up >trapped; while :; do sleep 0.05; done"
[errand.asks]
run = "echo done"
ask = "Really?"
[errand.lost]
with = "api"
run = "no-such-program"
`

func TestErrands(t *testing.T) {
	t.Parallel()
	p := newProject(t, strings.Replace(someErrands, "${ledger.port}", "${project.name}", 1))
	p.write("app/x", "")
	assert.Empty(t, p.errand("list").Runs)
	awkward := []string{"a b", "$HOME", "it's", "", "--flag", "*", "\"", "\\"}
	want := "<" + strings.Join(awkward, "><") + ">"
	assert.Equal(t, want, p.must(append([]string{"run", "list"}, awkward...)...))
	assert.Equal(t, want, p.must(append([]string{"line"}, awkward...)...), "without run")
	assert.Nil(t, p.status().Keeper, "nothing is needed, so nothing is started")

	r := p.run("fails")
	assert.Equal(t, result{"before\n", "Error: no such tool\n", 7}, r, "exit code and both streams are the command's")
	last := p.lastRun("fails")
	assert.Equal(t, errand.Failed, last.Result)
	assert.Equal(t, "exit 7", last.Exit)
	assert.Equal(t, "Error: no such tool", last.Line)
	assert.Contains(t, p.must("errands"), "exit 7")

	// Standard input, folder, environment; what it needs is started and left.
	cmd := exec.Command(binary, "-C", p.dir, "where")
	cmd.Stdin = strings.NewReader("piped\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, p.dir+"/app\nown\npiped\n", string(out))
	assert.Equal(t, "ready", p.status().Service["ledger"].State)
	assert.Equal(t, "stopped", p.status().Service["api"].State, "only what api needs, not api")

	// A signal is passed on, and the exit code comes back.
	cmd = exec.Command(binary, "-C", p.dir, "waits")
	var printed bytes.Buffer
	cmd.Stdout = &printed
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return p.lastRun("waits").Result == errand.UnderWay && p.lastRun("waits").Process.PID != 0
	}, patience, 20*time.Millisecond)
	p.holds("trapped", "up\n")
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	_ = cmd.Wait()
	assert.Equal(t, 4, cmd.ProcessState.ExitCode())
	assert.Equal(t, "begun\ntold\n", printed.String())
	assert.Equal(t, errand.Cancelled, p.lastRun("waits").Result)

	// One whose runner was killed is lost.
	cmd = exec.Command(binary, "-C", p.dir, "waits")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return p.lastRun("waits").Process.PID != 0 && p.lastRun("waits").Result == errand.UnderWay
	}, patience, 20*time.Millisecond)
	child := p.lastRun("waits").Process
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	assert.Equal(t, errand.Lost, p.lastRun("waits").Result)
	_ = syscall.Kill(child.PID, syscall.SIGKILL)

	assert.Contains(t, p.run("asks").stderr, "Really? Nobody is there to be asked; --yes answers it")
	assert.Equal(t, "done\n", p.must("run", "--yes", "asks"))
	r = p.run("run", "lsit")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `there is no errand "lsit"; did you mean "list"?`)
	r = p.run("lost")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "errand lost: no-such-program is not installed (looked in PATH)")
	assert.Contains(t, p.must("__complete", "run", ""), "list\tlist what it gets")
}

// Errands before a start run when they are due, once for all that wait for them;
// one that fails fails those.
func TestErrandsBeforeAStart(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.ledger]
run = "sh -c 'echo up; exec sleep 1000'"
health = { log = "up" }
[service.api]
run = "sleep 1000"
needs = ["ledger"]
prepare = [{ run = "echo prepared >>order", when = ["lock"] }]
[service.worker]
run = "sleep 1000"
[errand.migrate]
with = "api"
run = "echo migrated >>order; cat change"
before = ["api", "worker"]
when = ["change*"]
[errand.greet]
run = "echo up >>greeted"
on = { ready = "api" }
[errand.grieve]
run = "echo down >>greeted"
on = { stopped = "api" }
`)
	p.write("lock", "1")
	p.write("change", "1")
	p.must("start")
	p.holds("order", "prepared\nmigrated\n")
	p.holds("greeted", "up\n")
	assert.Equal(t, []string{"ledger"}, p.status().Service["worker"].Needs, "what the errand needs")
	p.must("restart", "api", "worker")
	p.holds("order", "prepared\nmigrated\n")
	assert.NotContains(t, p.must("errands")+p.run("check").stdout, "due")
	p.write("change2", "2")
	// The services keep running, and a finding says that the errand is due.
	assert.Contains(t, p.must("errands"), "before api, worker; due: what it depends on has changed: change*")
	assert.Contains(t, p.run("check").stdout, "errand migrate, which goes before its start, is due: what it depends on has changed")
	p.must("stop")
	p.holds("greeted", "up\ndown\nup\ndown\n")
	p.must("start")
	p.holds("order", "prepared\nmigrated\nmigrated\n")
	assert.Contains(t, p.must("starts", "0", "--json"), `"what": "errand migrate"`)
	// A run on a copy says nothing of the project's own.
	runs := len(p.errand("migrate").Runs)
	p.must("run", "--fresh", "--with", "api", "--", "true")
	assert.Len(t, p.errand("migrate").Runs, runs)
	text := string(must(readFile(p, "neighbour.toml")))
	p.write("neighbour.toml", strings.Replace(text, "; cat change\"", "; true\"", 1))
	assert.Contains(t, p.must("errands"), "due: its command is another")
	p.write("neighbour.toml", text)

	p.write("change2", "3")
	p.write("neighbour.toml", strings.Replace(string(must(readFile(p, "neighbour.toml"))), "cat change\"", "echo 'Error: no column' >&2; exit 2\"", 1))
	p.must("stop")
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "errand migrate: echo migrated >>order; echo 'Er…: exit 2 after ")
	assert.Contains(t, r.stderr, ": Error: no column")
	assert.Equal(t, "failed", p.status().Service["worker"].State)
	assert.Equal(t, "ready", p.status().Service["ledger"].State)

	for text, says := range map[string]string{
		"[errand.x]\nrun = \"x\"\nneeds = [\"nobody\"]\n": `there is no service "nobody"`,
		"[errand.status]\nrun = \"x\"\n":                  `"status" can't be an errand's name: neighbour has a command of that name`,
		"[service.a]\nrun = \"x\"\n[service.b]\nrun = \"x\"\nneeds = [\"a\"]\n[errand.x]\nrun = \"x\"\nneeds = [\"b\"]\nbefore = [\"a\"]\n": "services need each other in a circle",
		"[service.a]\nrun = \"x\"\n[errand.x]\nrun = \"x\"\nneeds = [\"a\"]\nbefore = [\"a\"]\n":                                            "x needs a, before which it is to run",
		"[errand.x]\nrun = \"x\"\nwhen = [\"a\"]\n":                                                                                         "says when it is due before a start, and before names no service",
		"[service.a]\nrun = \"x\"\n[errand.x]\nrun = \"x\"\nask = \"Go on?\"\nbefore = [\"a\"]\n":                                           "runs by itself, so that nobody is there to be asked",
	} {
		q := newProject(t, text)
		assert.Contains(t, q.run("check").stderr, says)
	}
}

// The view: run, watch, cancel, run with arguments; one that wants the terminal
// gets it.
func TestErrandsOnTheScreen(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.api]
run = "sleep 1000"
[errand.count]
about = "count for a while"
with = "api"
needs = ["api"]
run = "for i in $(seq 1 300); do echo line $i of $#; sleep 0.05; done"
[errand.talk]
run = "printf 'who? '; read name; echo hello $name; sleep 0.3"
terminal = true
`)
	s := open(t, p.dir, 110, 30)
	s.press("5")
	s.see(`count +count for a while .*needs api`)
	s.press("Enter")
	s.see(`starting api first`)
	s.see(`line \d+ of 0`)
	s.see(`under way for`)
	s.press("x")
	s.see(`cancelled`)
	assert.Equal(t, errand.Cancelled, p.lastRun("count").Result)
	s.press("a")
	s.press("t", "w", "o", "Space", "\"", "w", "o", "r", "d", "s", "\"", "Enter")
	s.see(`line \d+ of 2`)
	s.press("x")
	s.see(`count two words .* cancelled`)
	s.press("Down")
	s.see(`It was not run yet`)
	s.press("Enter")
	s.see(`(?m)^who\?`) // and not the command, which the list shows
	s.tmux("send-keys", "I", "n", "e", "s", "Enter")
	s.see(`so what it printed is not kept`)
	r := p.lastRun("talk")
	assert.True(t, r.Unkept)
	assert.Equal(t, errand.OK, r.Result)
}

// A shell in a service's folder, with its environment.
func TestShell(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"x\"\ndir = \"app\"\nenv.TOOL = \"drill\"\n")
	p.write("app/x", "")
	p.env = []string{"SHELL=/bin/sh"}
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "-C", p.dir, "shell", "api")
	cmd.Env = append(cmd.Environ(), p.env...)
	cmd.Stdin = strings.NewReader("pwd; echo $TOOL; exit 5\n")
	out, _ := cmd.Output()
	assert.Equal(t, p.dir+"/app\ndrill\n", string(out))
	assert.Equal(t, 5, cmd.ProcessState.ExitCode())
}

// An apply replaces the keeper; what it runs is ended then, and is told as that.
func TestErrandAndApply(t *testing.T) {
	t.Parallel()
	const declaration = "[service.api]\nrun = \"sleep 1000\"\n[errand.long]\nrun = \"echo begun; sleep 1000\"\n"
	p := newProject(t, declaration)
	p.must("start")
	s := open(t, p.dir, 110, 30)
	s.press("5", "Enter")
	s.see(`begun`)
	child := p.lastRun("long").Process
	p.write("neighbour.toml", declaration+"[service.web]\nrun = \"sleep 1000\"\n")
	p.must("apply")
	require.Eventually(t, func() bool { return p.lastRun("long").Result == errand.Cancelled }, patience, 20*time.Millisecond)
	assert.False(t, child.Alive())
	p.must("stop")
	assert.Empty(t, p.left())
}
