package project_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/project"
)

func number(n int) *int        { return &n }
func version(s string) *string { return &s }

func TestEdit(t *testing.T) {
	const text = "# ours\n[service.shelf]\nkind = \"redis\" # quick\nport = 6400\n[service.api]\nrun = \"x\"\nenv.URL = \"${shelf.url}\"\n"
	for name, c := range map[string]struct {
		change        project.Change
		before, after string // in the file
		local         string // the file for this machine, afterwards
		says          string // why it is refused
	}{
		"a port":            {project.Change{Service: "shelf", Port: number(6401)}, "port = 6400", "port = 6401", "", ""},
		"no port":           {project.Change{Service: "shelf", Port: number(0)}, "port = 6400\n", "", "", ""},
		"a version":         {project.Change{Service: "shelf", Version: version(">=7")}, "# quick\n", "# quick\nversion = \">=7\"\n", "", ""},
		"here only":         {project.Change{Service: "shelf", Local: true, Port: number(6402)}, "", "", "[service.shelf]\nport = 6402\n", ""},
		"one more":          {project.Change{Service: "bus", Add: &project.NewService{Kind: "nats"}}, "shelf.url}\"\n", "shelf.url}\"\n\n[service.bus]\nkind = \"nats\"\n", "", ""},
		"a program":         {project.Change{Service: "b", Add: &project.NewService{Kind: "program", Line: `run = "b"`}}, "shelf.url}\"\n", "shelf.url}\"\n\n[service.b]\nrun = \"b\"\n", "", ""},
		"what is needed":    {project.Change{Service: "shelf", Remove: true}, "", "", "", `there is no service "shelf"`},
		"a bad version":     {project.Change{Service: "shelf", Version: version(">=3, <2")}, "", "", "", "no version can meet"},
		"no versions":       {project.Change{Service: "api", Version: version("1")}, "", "", "", `there is no key "version"`},
		"a bad name":        {project.Change{Service: "1x", Add: &project.NewService{Kind: "redis"}}, "", "", "", "can't be a service's name"},
		"there already":     {project.Change{Service: "shelf", Add: &project.NewService{Kind: "redis"}}, "", "", "", "not TOML"},
		"outside":           {project.Change{Service: "api", Local: true, Outside: "127.0.0.1:1"}, "", "", "[service.api]\nkind = \"outside\"\nhealth = { tcp = \"127.0.0.1:1\" }\n", ""},
		"outside, but read": {project.Change{Service: "shelf", Local: true, Outside: "127.0.0.1:1"}, "", "", "", `shelf offers no fact "url"`},
	} {
		p := open(t, t.TempDir(), text)
		err := p.Edit(c.change)
		b, readErr := os.ReadFile(p.File)
		require.NoError(t, readErr)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			assert.Equal(t, text, string(b), name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, strings.Replace(text, c.before, c.after, 1), string(b), name)
		local, _ := os.ReadFile(filepath.Join(p.Dir, declare.LocalFileName))
		assert.Equal(t, c.local, string(local), name)
		assert.True(t, p.Stale(), name)
		assert.Equal(t, c.local != "", c.change.File() == declare.LocalFileName)
	}
	// What the file for this machine says goes before.
	p := open(t, t.TempDir(), text)
	require.NoError(t, os.WriteFile(filepath.Join(p.Dir, declare.LocalFileName), []byte("service.shelf.port = 6500\n"), 0o600))
	assert.ErrorContains(t, p.Edit(project.Change{Service: "shelf", Port: number(6401)}), "says port = 6500, whatever neighbour.toml says")
}

func TestPortsForNowAndProfiles(t *testing.T) {
	dir := t.TempDir()
	const text = "[service.api]\nrun = \"x\"\nport = 4100\n[service.web]\nrun = \"x\"\nenv.U = \"${api.port}\"\n[profile.away]\nservice.api.env.A = \"1\"\n"
	p := open(t, dir, text)
	require.NoError(t, p.UsePort("api", 4199))
	port := func(p *project.Project) int {
		n, err := p.Port(p.Service("api"))
		require.NoError(t, err)
		return n
	}
	assert.Equal(t, 4199, port(p))
	other := open(t, dir, text) // another command sees it
	assert.Equal(t, 4199, port(other))
	vars, err := other.Variables(other.Service("web"))
	require.NoError(t, err)
	assert.Contains(t, vars, wire.Variable{Name: "U", Value: "4199", Declared: "${api.port}", From: []string{"api.port"}, Where: "neighbour.toml:6:9"})
	away, err := project.OpenProfile(dir, "away")
	require.NoError(t, err)
	require.NoError(t, away.KeepProfile())
	now := open(t, dir, text)
	assert.Equal(t, "away", now.Profile, "what the keeper was started with")
	now.ForgetChoices()
	again := open(t, dir, text)
	assert.Empty(t, again.Profile)
	assert.Equal(t, 4100, port(again))
	free, err := again.FreePort(4100)
	require.NoError(t, err)
	assert.Greater(t, free, 4100, "a declared one is not free")
}

func TestEnvFilesOfSeveralServices(t *testing.T) {
	dir := t.TempDir()
	p := open(t, dir, `
[service.shelf]
kind = "redis"
port = 6400
[service.api]
run = "x"
env = { CACHE_URL = "${shelf.url}", MODE = "dev" }
[service.web]
run = "x"
env.API = "1"
[service.worker]
run = "x"
dir = "worker"
[env]
write = "worker/.env.local"
keys = { CACHE = "${shelf.url}", ODD = "it's" }
`)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "worker"), 0o755))
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write(".env", "CACHE_URL=redis://127.0.0.1:6400\nREDIS_URL=redis://localhost:1\nX=1\n")
	write(".env.production", "CACHE_URL=redis://:hunter2@cache.example.org\n")
	write("worker/.env", "REDIS_PORT=6399\nREDIS_HOST=localhost\n")
	tracked, err := p.WriteEnvFile()
	require.NoError(t, err)
	assert.False(t, tracked)
	info, err := os.Stat(filepath.Join(dir, "worker/.env.local"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "it may hold passwords")
	got := map[string]string{}
	for _, f := range p.EnvFiles() {
		for _, d := range f.Drift {
			got[strings.Join(strings.Fields(f.Path+" "+f.Service+" "+d.Name), " ")] = string(d.Result)
			assert.NotContains(t, d.Theirs+d.Ours, "hunter2")
		}
	}
	assert.Equal(t, map[string]string{
		".env api CACHE_URL": "same", ".env REDIS_URL": "points elsewhere", ".env X": "unused",
		".env.production api CACHE_URL":  "points elsewhere",
		"worker/.env worker REDIS_PORT":  "points elsewhere",
		"worker/.env.local worker CACHE": "same", "worker/.env.local worker ODD": "same",
	}, got)
	before, err := os.ReadFile(filepath.Join(dir, "worker/.env.local"))
	require.NoError(t, err)
	_, err = p.WriteEnvFile()
	require.NoError(t, err)
	after, err := os.ReadFile(filepath.Join(dir, "worker/.env.local"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))

	t.Setenv("MODE", "outer")
	explained, err := p.Explain(p.Service("api"), p.EnvFiles())
	require.NoError(t, err)
	require.Equal(t, "CACHE_URL", explained[0].Name)
	assert.Equal(t, []project.Hidden{{Where: ".env:1", Same: true}, {Where: ".env.production:1"}}, explained[0].Hides)
	assert.Equal(t, "the environment of the latest start", explained[1].Hides[0].String())
}

// A preparation is due exactly if what it names has changed since it was done.
func TestPreparationDue(t *testing.T) {
	dir := t.TempDir()
	p := open(t, dir, "[service.api]\nrun = \"x\"\ndir = \"app\"\nprepare = [{ run = \"a\", when = [\"lock\", \"src/**/*.go\"] }, { run = \"b\" }, { run = \"c\", makes = [\"node_modules\"] }]\n")
	s := p.Service("api")
	write := func(name, text string) {
		path := filepath.Join(dir, "app", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	due := func(i int) (bool, func() error) {
		due, err := p.PreparationDue(s, s.Prepare[i])
		require.NoError(t, err)
		return due.Why != "", due.Done
	}
	write("lock", "1")
	is, done := due(0)
	assert.True(t, is, "never done")
	is, _ = due(0)
	assert.True(t, is, "one that didn't end well is due again")
	require.NoError(t, done())
	for _, step := range []struct {
		name, text string
		due        bool
	}{{"lock", "1", false}, {"other", "x", false}, {"lock", "2", true}, {"src/a/b.go", "x", true}, {"src/a/b.go", "x", false}, {"src/a/b.txt", "x", false}, {"lock", "1", true}} {
		write(step.name, step.text)
		is, done := due(0)
		assert.Equal(t, step.due, is, step)
		require.NoError(t, done())
	}
	is, _ = due(1)
	assert.True(t, is, "without files before each start")
	is, _ = due(2)
	assert.True(t, is, "what it makes isn't there")
	write("node_modules/a", "x")
	is, _ = due(2)
	assert.False(t, is)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "app", "node_modules")))
	is, _ = due(2)
	assert.True(t, is, "what it makes is gone")
}
