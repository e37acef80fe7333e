package e2e

import (
	"neighbour/internal/core/record/starts"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A preparation runs before the start, in the service's folder and with its
// environment, and again only when its files change.
func TestPreparations(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.api]
run = "./built"
dir = "app"
env.GREETING = "hello"
health = { log = "hello" }
prepare = [
  { run = "sh -c 'echo installing; echo x >> installed'", when = ["lock.json", "more/**/*.json"] },
  { run = "printf '#!/bin/sh\necho %s; exec sleep 1000\n' $GREETING > built; chmod +x built" },
]
[service.web]
run = "sleep 1000"
needs = ["api"]
`)
	p.write("app/lock.json", "1")
	p.write("app/more/a/b.json", "1")
	runs := func() int {
		b, err := os.ReadFile(filepath.Join(p.dir, "app/installed"))
		require.NoError(t, err)
		return strings.Count(string(b), "x")
	}
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	report := p.start(0)
	api, _ := report.Start.Service("api")
	var prepared []string
	for _, ph := range api.Phases {
		if ph.Is == starts.Preparing {
			prepared = append(prepared, ph.What)
		}
	}
	require.Len(t, prepared, 2)
	assert.Contains(t, prepared[0], "sh -c 'echo installing")
	assert.Contains(t, p.must("logs", "api"), "installing")
	assert.Equal(t, 1, runs())
	p.must("restart", "api")
	p.must("stop")
	p.must("start")
	assert.Equal(t, 1, runs(), "nothing has changed")
	p.write("app/more/a/b.json", "2")
	p.must("restart", "api")
	assert.Equal(t, 2, runs())
	p.must("stop")

	// One that fails says so, and is tried again at the next start.
	p.write("app/lock.json", "3")
	p.write("neighbour.toml", "[service.api]\nrun = \"sleep 1000\"\ndir = \"app\"\nprepare = [{ run = \"sh -c 'echo no such package >&2; test -e ok'\", when = [\"lock.json\"] }]\n")
	r = p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `✖ api +failed +prepare: sh -c .*: exit 1 after \d+\.\d s\n +no such package`, r.stderr)
	p.write("app/ok", "")
	p.must("start")
	p.must("stop")
	p.write("neighbour.toml", "[service.api]\nrun = \"sleep 1000\"\nprepare = [{ run = \"no-such-tool\" }]\n")
	assert.Contains(t, p.run("start").stderr, "prepare: no-such-tool is not installed (looked in PATH)")
	p.must("stop")

	// A stop ends it, with all that it began.
	p.write("neighbour.toml", "[service.api]\nrun = \"sleep 1000\"\nprepare = [{ run = \"sh -c 'sleep 900 & sleep 901'\" }]\n")
	p.must("start", "--no-wait")
	p.until("api", "preparing")
	began := time.Now()
	p.must("stop")
	assert.Less(t, time.Since(began), patience)
	assert.Empty(t, p.left())
}

// What several services share is prepared once, in the folder that they name.
func TestSharedPreparation(t *testing.T) {
	t.Parallel()
	const shared = "prepare = [{ run = \"pwd >> made; sleep 0.2\", dir = \".\", when = [\"lock.json\"], makes = [\"made\"] }]\n"
	p := newProject(t, "[service.api]\nrun = \"exec sleep 1000\"\ndir = \"apps/api\"\n"+shared+"[service.web]\nrun = \"exec sleep 1000\"\ndir = \"apps/web\"\n"+shared)
	p.write("apps/api/a", "")
	p.write("apps/web/a", "")
	p.write("lock.json", "1")
	made := func() string {
		b, err := os.ReadFile(filepath.Join(p.dir, "made"))
		require.NoError(t, err)
		return string(b)
	}
	p.must("start")
	assert.Equal(t, p.dir+"\n", made())
	p.write("lock.json", "2")
	p.must("restart")
	assert.Equal(t, strings.Repeat(p.dir+"\n", 2), made())
	require.NoError(t, os.Remove(filepath.Join(p.dir, "made")))
	p.must("restart", "web")
	assert.Equal(t, p.dir+"\n", made())
	p.write("neighbour.toml", strings.Replace("[service.api]\nrun = \"x\"\n"+shared, `"."`, `"../x"`, 1))
	assert.Contains(t, p.run("check").stderr, `service.api.prepare[0].dir: "../x" leaves the project`)
}
