package deps_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/deps"
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

// What other managers have written beside what they installed.
func TestInstalledBesideLocks(t *testing.T) {
	t.Parallel()
	const (
		yarnLock = "# yarn lockfile v1\n\n\n\"@a/b@^1\", ms@^2.1.3:\n  version \"2.1.3\"\n  resolved \"https://r.example.org/ms.tgz#57\"\n  dependencies:\n    x \"1\"\n"
		yarnHas  = `{"lockfileEntries": {"@a/b@^1": "https://r.example.org/ms.tgz#57", "ms@^2.1.3": "https://r.example.org/ms.tgz#57"}}`
		phpLock  = `{"packages": [{"name": "a/b", "version": "1.0", "dist": {"reference": "f"}}], "packages-dev": [{"name": "a/c", "version": "2.0"}]}`
	)
	for name, c := range map[string]struct {
		command string
		files   map[string]string
		want    bool
	}{
		"yarn":                      {"yarn install --frozen-lockfile", map[string]string{"package.json": "{}", "yarn.lock": yarnLock, "node_modules/.yarn-integrity": yarnHas}, true},
		"yarn, an older one":        {"yarn install --frozen-lockfile", map[string]string{"package.json": "{}", "yarn.lock": strings.ReplaceAll(yarnLock, "#57", "#58"), "node_modules/.yarn-integrity": yarnHas}, false},
		"yarn, nothing":             {"yarn install --frozen-lockfile", map[string]string{"package.json": "{}", "yarn.lock": yarnLock}, false},
		"composer":                  {"composer install --no-interaction", map[string]string{"composer.json": "{}", "composer.lock": phpLock, "vendor/composer/installed.json": `{"packages": [{"name": "a/c", "version": "2.0"}, {"name": "a/b", "version": "1.0", "dist": {"reference": "f"}}]}`}, true},
		"composer, another commit":  {"composer install --no-interaction", map[string]string{"composer.json": "{}", "composer.lock": phpLock, "vendor/composer/installed.json": `{"packages": [{"name": "a/c", "version": "2.0"}, {"name": "a/b", "version": "1.0", "dist": {"reference": "g"}}]}`}, false},
		"composer, not for its own": {"composer install --no-interaction", map[string]string{"composer.json": "{}", "composer.lock": phpLock, "vendor/composer/installed.json": `{"packages": [{"name": "a/b", "version": "1.0", "dist": {"reference": "f"}}]}`}, false},
		"pip":                       {pip, map[string]string{"requirements.txt": "# ours\nFlask == 3.0.1\nruamel.yaml[jinja2]\n", ".venv/lib/python3.11/site-packages/flask-3.0.1.dist-info/METADATA": "", ".venv/lib/python3.11/site-packages/ruamel_yaml-0.18.dist-info/METADATA": ""}, true},
		"pip, another version":      {pip, map[string]string{"requirements.txt": "flask==3.0.1\n", ".venv/lib/python3.11/site-packages/flask-3.0.2.dist-info/METADATA": ""}, false},
		"pip, a range":              {pip, map[string]string{"requirements.txt": "flask>=3\n", ".venv/lib/python3.11/site-packages/flask-3.0.2.dist-info/METADATA": ""}, false},
		"pip, no environment":       {pip, map[string]string{"requirements.txt": "flask\n"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, deps.Installed(folder(t, c.files), c.command))
		})
	}
}

const pip = "python3 -m venv .venv && .venv/bin/pip install -r requirements.txt"

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
