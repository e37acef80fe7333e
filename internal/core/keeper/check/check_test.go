package check_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
)

func open(t *testing.T, toml string) *project.Project {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(toml), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	return p
}

// The worst comes first, then what starts first; what is optional stops
// nothing, and what runs is not in its own way.
func TestOrderAndLevels(t *testing.T) {
	p := open(t, `
[service.zoo]
run = "./gone"
[service.api]
run = "./gone"
needs = ["zoo"]
[service.extra]
run = "./gone"
optional = true
[service.later]
run = "./gone"
prepare = [{ run = "make", when = ["x"] }]
[errand.count]
run = "true"
`)
	all := check.Run(t.Context(), p, func(string) check.Seen { return check.Seen{} })
	var got []string
	for _, f := range all {
		got = append(got, string(f.Level)+" "+f.ID)
		assert.NotEmpty(t, f.What, f.ID)
		assert.Regexp(t, `^neighbour\.toml:\d+:\d+$`, f.Where, f.ID)
	}
	assert.Equal(t, []string{"stops program/zoo", "stops program/api", "warns program/extra", "warns when[0.0]/later", "note prepare[0]/later", "note program/later"}, got)
	assert.Len(t, check.Stopping(all), 2)
	assert.Equal(t, "build it, or correct the command", all[0].Remedy)
}

func TestAtStart(t *testing.T) {
	p := open(t, "[service.api]\nrun = \"true\"\nwrites = [\"a\", \"b\"]\noptional = true\n")
	require.NoError(t, os.Mkdir(filepath.Join(p.Dir, "a"), 0o755))
	in, err := p.Instance(p.Service("api"))
	require.NoError(t, err)
	stops := check.AtStart(t.Context(), p, in)
	require.Len(t, stops, 1, "an optional service doesn't start either")
	assert.Contains(t, stops[0].What, filepath.Join(p.Dir, "b")+" doesn't exist")
	assert.Equal(t, "neighbour.toml:3:16", stops[0].Where)
	require.Len(t, stops[0].Actions, 1)
	assert.Equal(t, check.MakeFolder, stops[0].Actions[0].Do)
}

// A line of an env file that several services read for themselves is one finding, however many
// others get the variable from the declaration.
func TestEnvFileOfManyServices(t *testing.T) {
	p := open(t, "[service.shelf]\nkind = \"redis\"\nport = 6399\n"+
		"[service.a]\nrun = \"true\"\nenv.REDIS_URL = \"${shelf.url}\"\n[service.b]\nrun = \"true\"\n[service.c]\nrun = \"true\"\n[service.d]\nrun = \"true\"\n[service.e]\nrun = \"true\"\n[service.f]\nrun = \"true\"\n")
	require.NoError(t, os.WriteFile(filepath.Join(p.Dir, ".env"), []byte("REDIS_URL=redis://localhost:1\n"), 0o644))
	levels := map[check.Level]int{}
	var why string
	for _, f := range check.Run(t.Context(), p, func(string) check.Seen { return check.Seen{} }) {
		if f.Where == ".env:1" {
			if levels[f.Level]++; f.Level == check.Warns {
				why = f.Why
			}
		}
	}
	assert.Equal(t, map[check.Level]int{check.Warns: 1, check.Note: 1}, levels)
	assert.Equal(t, "b, c, d and 2 more use it, so they don't reach shelf", why)
}

// What a start can't make beside the declaration is known before.
func TestFolderThatCantBeWritten(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	at := filepath.Join(dir, "shed")
	require.NoError(t, os.Mkdir(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "neighbour.toml"), []byte("[service.a]\nrun = \"true\"\n"), 0o644))
	require.NoError(t, os.Chmod(at, 0o555))
	t.Cleanup(func() { assert.NoError(t, os.Chmod(at, 0o755)) })
	p, err := project.Open(at)
	require.NoError(t, err)
	all := check.Stopping(check.Run(t.Context(), p, func(string) check.Seen { return check.Seen{} }))
	if os.Getuid() == 0 { // who may write everywhere
		assert.Empty(t, all)
		return
	}
	require.Len(t, all, 1)
	assert.Equal(t, "let yourself write to the folder: chmod u+w "+at, all[0].Remedy)
	assert.ErrorContains(t, p.EnsureDirs(), all[0].Remedy)
}
