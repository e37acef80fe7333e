package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every sort of check, on real processes: ready when it is answered, and not
// before.
func TestEveryCheck(t *testing.T) {
	t.Parallel()
	p := newProject(t, fmt.Sprintf(`
[service.http]
run = [%[1]q, "toolshed", "api"]
health = { http = "/healthz", status = 200, body = "well" }
[service.whole]
run = "sleep 1000"
health = { http = "${http.url}/healthz" }
[service.tcp]
run = [%[1]q, "toolshed", "shelf"]
health = { tcp = "${tcp.host}:${tcp.port}" }
[service.run]
run = "sh -c 'sleep 0.3; touch open; exec sleep 1000'"
health = { run = "test -e open" }
[service.line]
run = "sh -c 'sleep 0.3; echo the shed is open; exec sleep 1000'"
health = { log = "shed is (open|ajar)" }
[service.port]
run = [%[1]q, "toolshed", "shelf"]
needs = ["process"]
env.SELF = "${port.url}"
[service.process]
run = "sleep 1000"
[service.post]
kind = "mail"
health = { within = "5m" }
[service.once]
run = "sh -c 'sleep 0.2; echo counted'"
once = true
[service.after]
run = "sh -c 'cat counted; exec sleep 1000'"
needs = ["once"]
`, binary))
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	s := p.status().Service
	for name, svc := range s {
		want := "ready"
		if name == "once" {
			want = "finished"
		}
		assert.Equal(t, want, svc.State, name)
	}
	for _, name := range []string{"run", "line"} {
		assert.GreaterOrEqual(t, s[name].ReadyMS, 290.0, "%s is ready when its check says so", name)
	}
	assert.Equal(t, 3, s["after"].Step+s["once"].Step)
	text := p.must("status")
	assert.Regexp(t, `◆  once +finished`, text)
	p.must("start")
	assert.Equal(t, 1, strings.Count(p.must("logs", "once"), "counted"), "what has finished is not run again")
	p.must("restart", "once")
	p.until("once", "finished")
	assert.Equal(t, 2, strings.Count(p.must("logs", "once"), "counted"), "unless it is named")
}

func TestAilingAndMended(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.api]\nrun = \"sleep 1000\"\nhealth = { run = \"test ! -e ill\", every = \"50ms\", fails = 2 }\n")
	p.must("start")
	pid := p.status().Service["api"].PID
	p.write("ill", "")
	api := p.until("api", "ailing")
	assert.Contains(t, api.Reason, "exit 1")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "ill")))
	api = p.until("api", "ready")
	assert.Equal(t, pid, api.PID, "a check that fails restarts nothing by itself")
}

func TestRestartPolicies(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.always]
run = "sh -c 'echo turn; sleep 0.4'"
restart = { when = "always", most = 50 }
[service.never]
run = "sh -c 'sleep 1.3; exit 7'"
restart = { when = "never" }
[service.loop]
run = "sh -c 'sleep 2; echo no screws; exit 9'"
restart = { most = 2, within = "5m" }
[service.deaf]
run = "sh -c 'trap : TERM; trap \"echo bye; exit 0\" USR1; while :; do sleep 0.05; done'"
stop = { signal = "USR1" }
`)
	p.must("start", "--no-wait") // one is always about to start
	require.Eventually(t, func() bool { return strings.Count(p.must("logs", "always"), "turn") > 2 }, patience, 50*time.Millisecond)
	assert.Regexp(t, `^exit 7 after 1\.\d s$`, p.until("never", "failed").Reason)
	loop := p.until("loop", "failed")
	assert.Contains(t, loop.Reason, "it was restarted twice within 5 min and ended each time; giving up")
	assert.Equal(t, 2, loop.Restarts)
	p.must("stop")
	assert.Contains(t, p.must("logs", "deaf"), "bye", "its own signal asks it to end")
	assert.Equal(t, "stopped", p.status().Service["loop"].State)
}

func TestOptionalMayFail(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.tariffs]\nrun = \"no-such-program\"\noptional = true\n"+program("api", `needs = ["tariffs"]`))
	r := p.run("start")
	assert.Zero(t, r.code, "what is optional doesn't decide")
	assert.Contains(t, r.stdout, "1 of 2 ready")
	assert.Contains(t, r.stderr, "no-such-program is not installed")
}

// A live line for each service on a terminal, and the reasons below.
func TestStartOnATerminal(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("base")+"[service.bad]\nrun = \"sh -c 'sleep 3; echo no screws left; exit 3'\"\nhealth = { run = \"false\" }\n"+program("top", `needs = ["base"]`))
	s := open(t, p.dir, 90, 24, "start")
	s.see(`◐ bad +starting`)
	text := s.see(`exit 1\n`)
	assert.Regexp(t, `(?m)^● base +ready +\d\.\d+ s$`, text)
	assert.Regexp(t, `(?m)^✖ bad +failed +exit 3`, text)
	assert.Equal(t, 1, strings.Count(text, "● base"), "one line, changed in place")
	assert.Regexp(t, `(?s)bad: exit 3.*\n +no screws left`, text)
	assert.Contains(t, text, "2 of 3 ready")
}

// Without colours, or with few, everything is still told.
func TestFewColours(t *testing.T) {
	p := newProject(t, program("api"))
	p.must("start")
	for _, c := range []struct{ variable, banned string }{{"NO_COLOR=1", `\x1b\[[0-9;]*38[;:]|\x1b\]11;`}, {"COLORTERM=", `\x1b\[[0-9;]*38[;:]2`}} {
		t.Setenv("TERM", "xterm-16color")
		s := &screen{t, filepath.Join(t.TempDir(), "tmux")}
		s.tmux("-S", s.socket, "-f", "/dev/null", "new-session", "-d", "-x", "100", "-y", "30", "-c", p.dir, "env "+c.variable+" '"+binary+"'")
		t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
		s.see(`● ready`)
		drawn := s.tmux("capture-pane", "-p", "-e")
		assert.NotRegexp(t, regexp.MustCompile(c.banned), drawn, c.variable)
		assert.Regexp(t, `┏ .*api`, drawn, "the selected one is seen without colours")
	}
}
