package check_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/check"
	"neighbour/internal/core/project"
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
