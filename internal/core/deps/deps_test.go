package deps_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/deps"
)

func folder(t *testing.T, files map[string]string) string {
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	}
	return dir
}

func TestInstalled(t *testing.T) {
	const lock = `{"packages": {"": {"name": "x"}, "node_modules/ms": {"version": "2.1.3", "integrity": "a"}, "node_modules/mac": {"version": "1", "optional": true}}}`
	for name, c := range map[string]struct {
		installed string
		want      bool
	}{
		"the same":      {`{"packages": {"node_modules/ms": {"version": "2.1.3", "integrity": "a"}}}`, true},
		"another":       {`{"packages": {"node_modules/ms": {"version": "2.1.2", "integrity": "b"}}}`, false},
		"changed":       {`{"packages": {"node_modules/ms": {"version": "2.1.3", "integrity": "b"}}}`, false},
		"more":          {`{"packages": {"node_modules/ms": {"version": "2.1.3", "integrity": "a"}, "node_modules/x": {"version": "1"}}}`, false},
		"none":          {`{"packages": {}}`, false},
		"no such thing": {"", false},
	} {
		dir := folder(t, map[string]string{"package.json": "{}", "package-lock.json": lock, "node_modules/.package-lock.json": c.installed})
		assert.Equal(t, c.want, deps.Installed(dir, "npm ci"), name)
		assert.False(t, deps.Installed(dir, "npm install"), name)
	}
}

func TestMissing(t *testing.T) {
	dir := folder(t, map[string]string{"package.json": `{"dependencies": {"x": "1"}}`, "package-lock.json": "", "api/server.js": "", "site/composer.json": `{"require": {"php": "8"}}`, "done/package.json": `{"dependencies": {"x": "1"}}`, "done/node_modules/x/index.js": "", "other/index.html": ""})
	s, at, missing := deps.Missing(filepath.Join(dir, "api"), dir)
	assert.True(t, missing)
	assert.Equal(t, dir, at)
	assert.Equal(t, `{ run = "npm ci", dir = ".", when = ["package-lock.json"], makes = ["node_modules"] }`, s.Preparation(".", "api"))
	_, _, missing = deps.Missing(filepath.Join(dir, "done"), dir)
	assert.False(t, missing)
	_, _, missing = deps.Missing(filepath.Join(dir, "other"), filepath.Join(dir, "other"))
	assert.False(t, missing)
	assert.Equal(t, []string{filepath.Join(dir, "node_modules/.bin")}, deps.Bins(dir))
	assert.True(t, deps.IsBin(filepath.Join(dir, "node_modules/.bin")))
	assert.False(t, deps.IsBin("/usr/bin"))
}
