package insight_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/errand"
	_ "neighbour/internal/kinds/catalogue"
)

func TestErrands(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(`
[service.ledger]
kind = "sqlite"
[service.api]
run = "x"
needs = ["ledger"]
[service.web]
run = "x"
needs = ["api"]
[errand.count]
about = "count them"
run = "count"
needs = ["web", "ledger"]
[errand.migrate]
with = "api"
run = "migrate"
before = ["web", "api"]
on = { reset = "ledger", failed = "web" }
[errand.plain]
run = ["a", "b"]
`), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	store := errand.NewStore(p.ErrandDir())
	for i := range 20 {
		rec, err := store.Begin(errand.Run{Errand: []string{"count", "plain"}[i%2], By: "the test"})
		require.NoError(t, err)
		_, err = rec.End(true, "exit 0", "")
		require.NoError(t, err)
	}
	all, err := insight.Errands(p, func(name string) supervise.State {
		return map[string]supervise.State{"ledger": supervise.Ready, "web": supervise.Failed}[name]
	})
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, []insight.Needed{{Name: "ledger", State: supervise.Ready}, {Name: "web", State: supervise.Failed}}, all[0].Needs, "in the order of the plan")
	assert.Equal(t, "needs ledger, web", all[0].WhenInWords())
	assert.Len(t, all[0].Runs, 10)
	last, ran := all[0].Last()
	assert.True(t, ran)
	assert.Equal(t, errand.OK, last.Result)
	assert.Equal(t, []string{"api", "web"}, all[1].Before)
	assert.Equal(t, "before api, web, when web fails, when ledger is emptied", all[1].WhenInWords())
	_, ran = all[1].Last()
	assert.False(t, ran)
	assert.Equal(t, "a b", all[2].Run)
	assert.Empty(t, all[2].WhenInWords())
}
