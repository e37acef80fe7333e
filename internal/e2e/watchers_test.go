package e2e

import (
	"io/fs"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// Development servers watch a project's whole tree, and begin anew when a file in it changes. What
// Neighbour writes, and what servers do to their data, must not be there.
func TestWatchersSleep(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "redis-server")
	p := newProject(t, "[service.ledger]\nkind = \"postgres\"\n[service.shelf]\nkind = \"redis\"\n[service.postbox]\nkind = \"mail\"\n[service.reviews]\nkind = \"documents\"\n"+
		program("api", `needs = ["ledger"]`, `env.A = "${ledger.url}"`)+"[errand.count]\nwith = \"api\"\nrun = \"echo counted\"\n[env]\nwrite = \".env.local\"\nkeys = { LEDGER = \"${ledger.url}\" }\n")
	p.write("web/index.html", "<h1>Toolshed</h1>\n")
	p.must("start")

	w, err := fsnotify.NewWatcher()
	require.NoError(t, err)
	require.NoError(t, filepath.WalkDir(p.dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			return w.Add(path)
		}
		return err
	}))
	var mu sync.Mutex
	var woken []fsnotify.Event
	var listening sync.WaitGroup
	listening.Go(func() {
		for e := range w.Events {
			mu.Lock()
			woken = append(woken, e)
			mu.Unlock()
		}
	})
	for _, args := range [][]string{
		{"ask", "ledger", "--write", "create table tool as select n from generate_series(1, 5000) n"},
		{"run", "count"}, {"run", "--with", "api", "--", "true"}, {"status"}, {"check"},
		{"snapshot", "save", "before"}, {"run", "--fresh", "--with", "shelf", "--", "true"}, {"restart", "api"}, {"reset", "shelf", "--yes"},
		{"snapshot", "restore", "before", "--yes"}, {"stop"}, {"start"},
	} {
		r := p.run(args...)
		assert.Zero(t, r.code, "%v: %s", args, r.stderr)
	}
	// Events come in order: once this one is there, so are all before it.
	last := p.write("last", "")
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return slices.ContainsFunc(woken, func(e fsnotify.Event) bool { return e.Name == last })
	}, patience, 5*time.Millisecond)
	require.NoError(t, w.Close())
	listening.Wait()
	assert.Empty(t, slices.DeleteFunc(woken, func(e fsnotify.Event) bool { return e.Name == last }))
}
