package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
)

// All projects of a user are seen, and come to rest, from anywhere.
func TestProjects(t *testing.T) {
	t.Parallel()
	// Others of this run are not to be stopped: these have a list of their own.
	env := []string{"XDG_STATE_HOME=" + t.TempDir()}
	port := itoa(freePort(t))
	make := func(name, declaration string) *project {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		p := newProjectIn(t, dir, declaration)
		p.env = env
		return p
	}
	shed := make("toolshed", program("api")+"[service.web]\nrun = \"sleep 1000\"\nneeds = [\"api\"]\n")
	orchard := make("orchard", "[service.press]\nrun = \"sleep 1000\"\nport = "+port+"\nhealth = { run = \"true\" }\n")
	broken := make("broken", program("old"))
	accounts := make("accounts", "[service.books]\nrun = \"sleep 1000\"\nport = "+port+"\nhealth = { run = \"true\" }\n")
	gone := make("gone", program("api"))
	for _, p := range []*project{shed, broken, accounts, gone} {
		p.must("start")
	}
	for _, p := range []*project{accounts, gone} {
		p.must("stop")
	}
	orchard.must("start")
	before := time.Now().Add(-71 * 24 * time.Hour)
	require.NoError(t, os.Chtimes(accounts.state("run/state.json"), before, before))
	require.NoError(t, os.RemoveAll(gone.dir))
	broken.write("neighbour.toml", "[service\n")

	elsewhere := t.TempDir()
	list := func() map[string]api.Listed {
		var all struct {
			Projects []api.Listed
			Clashes  []api.Clash
		}
		r := runWith(t, env, elsewhere, "projects", "--json")
		require.Zero(t, r.code, r.stderr)
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &all))
		out := map[string]api.Listed{}
		for _, l := range all.Projects {
			out[l.Name] = l
		}
		require.Len(t, all.Clashes, 1)
		assert.Equal(t, []string{"accounts", "orchard"}, all.Clashes[0].Projects)
		return out
	}
	all := list()
	require.Len(t, all, 5)
	assert.Len(t, all["toolshed"].Services, 2)
	assert.Equal(t, shed.status().Keeper.PID, all["toolshed"].PID)
	assert.Positive(t, all["toolshed"].Memory)
	assert.Positive(t, all["toolshed"].Disk)
	assert.Equal(t, "old", all["broken"].Services[0].Name, "its keeper knows it")
	assert.Contains(t, all["broken"].Problem, "this is not TOML")
	assert.Zero(t, all["accounts"].PID)
	assert.True(t, all["gone"].Gone)
	r := runWith(t, env, elsewhere, "projects")
	assert.Contains(t, r.stderr, "3 of 5 projects running; accounts and orchard want "+port+"; of gone the folder is gone; accounts was not used for 71 days and holds")
	assert.Regexp(t, `(?m)^● +toolshed +2 of 2 ready .* since `, r.stdout)
	assert.Regexp(t, `(?m)^○ +accounts +1 service .* 71 days ago$`, r.stdout)
	assert.Regexp(t, `(?m)^▲ +gone .* its folder is gone`, r.stdout)
	assert.Contains(t, runWith(t, env, elsewhere, "projects", "--forget").stdout, "forgotten: "+gone.dir)
	assert.NotContains(t, list(), "gone")

	r = runWith(t, env, elsewhere, "rest")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stdout, "toolshed: stopped api, web\n")
	assert.Contains(t, r.stdout, "broken: stopped old\n")
	for _, p := range []*project{shed, orchard, broken} {
		assert.Empty(t, p.left())
	}
	assert.Equal(t, "nothing was running\n", runWith(t, env, elsewhere, "rest").stdout)
	broken.write("neighbour.toml", program("old"))
	require.NoError(t, os.MkdirAll(gone.dir, 0o755))
	gone.write("neighbour.toml", program("api"))
}

// The view of all projects starts and stops them, one in the place of another that has its port,
// and goes to them.
func TestProjectsView(t *testing.T) {
	t.Parallel()
	env := []string{"XDG_STATE_HOME=" + t.TempDir()}
	port := itoa(freePort(t))
	wants := "[service.web]\nrun = \"sleep 1000\"\nport = " + port + "\nhealth = { run = \"true\" }\n"
	in := func(name, declaration string) *project {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		p := newProjectIn(t, dir, declaration)
		p.env = env
		p.must("start")
		return p
	}
	shed := in("toolshed", wants)
	shed.must("stop")
	orchard := in("orchard", wants+program("press"))
	gone := in("garden", program("hose"))
	gone.must("stop")
	require.NoError(t, os.RemoveAll(gone.dir))
	keeper := orchard.status().Keeper.PID

	s := openWith(t, env, orchard.dir, 142, 38)
	s.see(`2 of 2 ready`)
	s.press("0")
	s.see(`1 of 3 projects running; orchard and toolshed want ` + port + `; of garden the folder is gone`)
	s.see(`(?m)^▌ orchard +●● .* since \d\d:\d\d`)
	s.press("Down")
	s.see(`── toolshed ─`)
	s.see(`checks +.*port ` + port + ` is held|checks +nothing`)
	s.press("s")
	s.see(`Stop that one and start toolshed\?`)
	s.see(`orchard, which has port ` + port)
	s.press("Enter")
	s.see(`(?m)^▌ toolshed +● .* since`)
	s.see(`(?m)^  orchard +○○ `)
	assert.Equal(t, "stopped", orchard.status().Service["web"].State)
	assert.Equal(t, keeper, orchard.status().Keeper.PID, "who is watched goes on")
	s.press("/", "g", "a", "r", "Enter")
	s.see(`/gar: 1 of 3`)
	s.see(`This is left of it, and f deletes it:`)
	s.see(`what is remembered of it: \d+ B in `)
	s.press("f")
	s.see(`No project has that`)
	s.press("/", "Escape")
	s.see(`1 of 2 projects running`)
	s.press("Home", "Enter") // it is the first, since it runs
	s.see(`(?m)^  toolshed +1 of 1 ready`)
	s.press("0")
	s.see(`── toolshed, which you see here ─`)
	s.press("x")
	s.see(`Stop toolshed\?`)
	s.press("Enter")
	s.see(`0 of 2 projects running`)
	s.press("q")
	for _, p := range []*project{shed, orchard} {
		p.must("stop")
		assert.Empty(t, p.left())
	}
	require.NoError(t, os.MkdirAll(gone.dir, 0o755))
	gone.write("neighbour.toml", program("hose"))
}
