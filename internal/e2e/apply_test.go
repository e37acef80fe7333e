package e2e

import (
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

const before = `[service.base]
run = "sleep 1000"
[service.shelf]
kind = "redis"
[service.api]
run = "sleep 1001"
env.URL = "${shelf.url}"
[service.web]
run = "sleep 1002"
needs = ["api"]
[service.gone]
run = "sleep 1003"
[service.once]
run = "sh -c 'sleep 5; exit 7'"
restart = { when = "never" }
health = { run = "true" }
`

// A changed declaration restarts what it changes and what reads a changed
// fact, and leaves everything else alone.
func TestApply(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	p := newProject(t, before)
	assert.Contains(t, p.run("apply").stderr, "nothing runs")
	p.must("start")
	was := p.status()
	number := freePort(t)
	p.write("neighbour.toml", strings.NewReplacer(
		"[service.base]\n", "[service.base]\nhealth = { run = \"true\", every = \"1s\" }\n",
		"kind = \"redis\"\n", "kind = \"redis\"\nport = "+itoa(number)+"\n",
		"[service.gone]\nrun = \"sleep 1003\"\n", "[service.fresh]\nrun = \"sleep 1004\"\nneeds = [\"web\"]\n").Replace(before))
	dry := p.must("apply", "--dry-run")
	assert.Equal(t, was.Service, p.status().Service, "nothing is done yet")
	r := p.run("apply")
	require.Zero(t, r.code, r.stderr)
	assert.Equal(t, dry, r.stdout[:len(dry)])
	for _, says := range []string{"base goes on: changed, and no reason to restart: health\n", "shelf restarts: changed: port\n", "api restarts: it reads what has changed: shelf.url\n", "fresh starts: it is new\n", "gone stops: it is no longer declared\n", "2 restart, 1 starts, 1 stops, 3 go on as they are\n"} {
		assert.Contains(t, dry, says)
	}
	now := p.status()
	assert.Equal(t, was.Keeper.PID, now.Keeper.PID, "the keeper's process stays")
	for name, same := range map[string]bool{"base": true, "web": true, "shelf": false, "api": false} {
		assert.Equal(t, same, was.Service[name].PID == now.Service[name].PID, name)
		assert.Equal(t, "ready", now.Service[name].State, name)
	}
	assert.Equal(t, number, now.Service["shelf"].Port)
	assert.Equal(t, "ready", now.Service["fresh"].State)
	assert.NotContains(t, now.Service, "gone")
	assert.Error(t, syscall.Kill(was.Service["gone"].PID, 0))
	once := p.until("once", "failed")
	assert.Contains(t, once.Reason, "exit 7", "how an untouched service ends is still known")

	// A mistake changes nothing, and neither does an apply without a change.
	b, err := os.ReadFile(p.dir + "/neighbour.toml")
	require.NoError(t, err)
	p.write("neighbour.toml", string(b)+"[service.x]\nprot = 1\n")
	r = p.run("apply")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, `there is no key "prot"`)
	p.write("neighbour.toml", string(b))
	assert.Contains(t, p.must("apply"), "5 go on as they are, 1 stays as it is")
	assert.Equal(t, now.Service["api"].PID, p.status().Service["api"].PID)

	// On the screen it is offered as soon as the file changes.
	s := open(t, p.dir, 142, 38)
	s.see("ready")
	p.write("neighbour.toml", string(b)+"oops\n")
	s.see(`✖ a mistake, so nothing is changed: neighbour\.toml:\d+:\d+`)
	p.write("neighbour.toml", strings.Replace(string(b), "sleep 1002", "sleep 1005", 1))
	s.see(`▲ neighbour\.toml has changed: a shows`)
	s.press("a")
	s.see(`web +restarts +changed: run`)
	s.press("Escape")
	assert.Equal(t, now.Service["web"].PID, p.status().Service["web"].PID)
	s.press("a")
	s.see(`web +restarts`)
	s.press("Enter")
	s.gone(`has changed`)
	require.Eventually(t, func() bool {
		web := p.status().Service["web"]
		return web.State == "ready" && web.PID != now.Service["web"].PID
	}, patience, 50*time.Millisecond)
	s.see(`5 of 6 ready`)
	assert.NotContains(t, s.text(), "does not answer")
	p.must("stop")
	assert.Empty(t, p.left())
}

// A keeper that is asked to end leaves the services as they are.
func TestKeeperAskedToEnd(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("a")+program("b", "health = { run = \"true\" }"))
	p.must("start")
	was := p.status()
	require.NoError(t, syscall.Kill(was.Keeper.PID, syscall.SIGTERM))
	require.Eventually(t, func() bool { return syscall.Kill(was.Keeper.PID, 0) != nil }, patience, 10*time.Millisecond)
	p.must("start")
	now := p.status()
	assert.NotEqual(t, was.Keeper.PID, now.Keeper.PID)
	for name := range was.Service {
		assert.Equal(t, was.Service[name].PID, now.Service[name].PID, "adopted, not started again")
	}
}
