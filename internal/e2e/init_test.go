package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// fresh is a project without a declaration.
func fresh(t *testing.T) *project {
	p := newProject(t, "")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "neighbour.toml")))
	p.write("package.json", `{"name": "shed", "scripts": {"dev": "sh app.sh"}, "dependencies": {"ioredis": "5"}}`)
	p.write("app.sh", "#!/bin/sh\nredis-cli -u $REDIS_URL set drill \"$(echo A1)\"; sleep 1000\n")
	p.write(".env", "REDIS_URL=redis://:hunter2@localhost:6379\nPOST_URL=nats://localhost\n")
	return p
}

// From nothing to a running project: the proposal is written, and works.
func TestInit(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	testkit.Need(t, "nats-server")
	p := fresh(t)
	assert.Contains(t, p.run("status").stderr, "neighbour init", "who has no declaration is told how to get one")
	r := p.run("init")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "the screen needs a terminal that can show one; --yes takes the proposal as it is, --json prints it")
	var proposal struct {
		Project, File string
		Services      []struct {
			Name, Kind, Installed string
			On                    bool
			Env                   []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.must("init", "--json")), &proposal))
	assert.NoFileExists(t, filepath.Join(p.dir, "neighbour.toml"))
	assert.Equal(t, "redis", proposal.Services[0].Kind)
	assert.NotEmpty(t, proposal.Services[0].Installed)
	assert.Equal(t, []string{"REDIS_URL=${cache.url}", "POST_URL=${bus.url}"}, proposal.Services[2].Env)

	// A script stands in for npm, which the tests don't need.
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "npm"), []byte("#!/bin/sh\n[ \"$1\" = install ] || exec sh app.sh\n"), 0o755))
	p.env = []string{"PATH=" + bin + ":" + os.Getenv("PATH")}
	r = p.run("init", "--yes")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stdout, "neighbour.toml is written, with 3 services: cache, bus, shed")
	b, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	assert.Equal(t, proposal.File, string(b))
	assert.NotContains(t, string(b), "hunter2")
	require.Zero(t, p.run("start", "shed").code)
	assert.Contains(t, p.say("cache", "get drill\n"), "A1")

	r = p.run("init", "--yes")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "neighbour.toml is there already, and is never overwritten")
	empty := newProject(t, "")
	require.NoError(t, os.Remove(filepath.Join(empty.dir, "neighbour.toml")))
	r = empty.run("init", "--yes")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "nothing was found that a declaration could be made of")
}

func TestInitOnTheScreen(t *testing.T) {
	t.Parallel()
	p := fresh(t)
	file := filepath.Join(p.dir, "neighbour.toml")
	s := open(t, p.dir, 142, 38, "init")
	text := s.see(`■ on +cache +redis +any +any`)
	assert.Contains(t, text, "REDIS_URL points to Redis on localhost:6379")
	assert.Contains(t, text, `REDIS_URL = "${cache.url}"`, "the file is beside it")
	assert.Contains(t, text, "□ off  database")
	s.fits(142, 38)
	// Another name, and a version nobody can meet.
	s.press("Enter", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "s", "h", "e", "l", "f")
	s.see(`REDIS_URL = "\$\{shelf\.url\}"`)
	s.press("Enter", "Right", "Right", "Enter", ">", "9", ",", "<", "8")
	s.see(`✖ service\.shelf\.version: no version can meet`)
	s.press("Enter", "w")
	s.see("not written: service.shelf.version")
	assert.NoFileExists(t, file)
	s.press("Enter", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "Enter")
	s.gone("✖")
	// A port, another kind, off and on.
	s.press("Right", "Enter", "7", "0", "0", "0", "Enter")
	s.see(`(?m)port = 7000$`)
	s.press("Down", "Space")
	s.gone(`service\.bus`)
	s.press("Down", "Down", "Left", "Left", "Enter", "m", "Enter")
	s.see(`kind = "m(ariadb|emcached|qtt|ail|ysql)"`)
	s.press("q")
	s.see("leave without writing")
	s.press("w")
	s.see("neighbour.toml is written, with 3 services")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(b), "[service.shelf]\nkind = \"redis\"\nport = 7000\n")
	assert.Zero(t, p.run("status").code)

	// Leaving writes nothing, small terminals do.
	require.NoError(t, os.Remove(file))
	s = open(t, p.dir, 80, 24, "init")
	s.see(`■ on +cache +redis +any +any`)
	s.fits(80, 24)
	s.press("q", "q")
	s.see("nothing was written")
	assert.NoFileExists(t, file)
}

// Where there is no declaration, the program alone offers one, and goes on with
// it.
func TestNeighbourAlone(t *testing.T) {
	p := fresh(t)
	s := open(t, p.dir, 142, 38)
	s.see(`a first declaration, from \d+ files`)
	s.press("n", "t", "o", "o", "l", "s", "Enter")
	s.see(`(?m)^▌ ■ on +tools? +program|tools`)
	s.press("w")
	s.see(`0 of \d+ ready`)
	b, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "tools]\n")
	s.press("q")
}

// A terminal that can show no full screen is never filled with one.
func TestDumbTerminal(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api"))
	s := open(t, p.dir, 100, 30, "version")
	s.see("neighbour")
	s = &screen{t, filepath.Join(t.TempDir(), "tmux")}
	s.tmux("-S", s.socket, "-f", "/dev/null", "new-session", "-d", "-x", "100", "-y", "30", "-c", p.dir, "env TERM=dumb '"+binary+"'; sleep 100")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	s.see("the full screen needs a terminal that can show one")
}

// A page is opened with what BROWSER names, and printed.
func TestOpenAPage(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.page]\nkind = \"static\"\nroot = \"site\"\n"+program("api"))
	p.env = []string{"BROWSER=tee -a opened"}
	p.write("site/index.html", "x")
	r := p.run("open")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "no service with a page is ready")
	b := filepath.Join(p.dir, "look")
	p.write("look", "#!/bin/sh\necho \"$1\" > opened\n")
	p.env = []string{"BROWSER=" + b}
	out := p.must("start", "--open")
	url := p.status().Service["page"].Facts["url"]
	assert.Contains(t, out, url)
	p.holds("opened", url+"\n")
	assert.Equal(t, url+"\n", p.must("open", "page", "--print"))
	assert.Contains(t, p.run("open", "api").stderr, "api has no page")
	assert.Contains(t, p.must("env", "page"), "PAGE_URL="+url)
}
