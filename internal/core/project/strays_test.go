package project_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
)

// All patterns are seen from the project's folder. One that was written as if it were seen
// from the command's does what it did, and is told with how it is written.
func TestPatternsAreSeenFromTheProject(t *testing.T) {
	p := open(t, t.TempDir(), `[service.api]
run = "sleep 1"
dir = "api"
prepare = [{ run = "npm ci", when = ["package-lock.json", "api/tsconfig.json", "yarn.lock", "nothing", "db/*.sql"], makes = ["node_modules"] }]
`)
	for _, name := range []string{"package-lock.json", "api/package-lock.json", "api/tsconfig.json", "api/yarn.lock", "api/db/1.sql", "api/node_modules/x"} {
		path := filepath.Join(p.Dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(name), 0o644))
	}
	s := p.Service("api")
	prep := s.Prepare[0]
	assert.Equal(t, []project.Stray{
		{"package-lock.json", "api/package-lock.json", true},
		{"yarn.lock", "api/yarn.lock", false},
		{"nothing", "", false},
		{"db/*.sql", "api/db/*.sql", false},
	}, p.StraysOf(s, prep))

	due, err := p.PreparationDue(s, prep)
	require.NoError(t, err)
	require.NoError(t, due.Done())
	for name, changes := range map[string]bool{"api/package-lock.json": false, "package-lock.json": true, "api/tsconfig.json": true, "api/yarn.lock": true, "api/db/1.sql": true} {
		require.NoError(t, os.WriteFile(filepath.Join(p.Dir, name), []byte("another "+name), 0o644))
		due, err := p.PreparationDue(s, prep)
		require.NoError(t, err)
		assert.Equal(t, changes, due.Why != "", "%s: %s", name, due.Why)
		require.NoError(t, due.Done())
	}
	require.NoError(t, os.RemoveAll(filepath.Join(p.Dir, "api/node_modules")))
	due, err = p.PreparationDue(s, prep)
	require.NoError(t, err)
	assert.Contains(t, due.Why, "node_modules")
}
