package program

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind"
)

// What the files of projects ask for, in constraints of ours.
func TestAskedByFiles(t *testing.T) {
	for _, c := range []struct{ file, text, runtime, allows, refuses string }{
		{"package.json", `{"engines": {"node": ">=18 <21"}}`, "node", "20.11.1", "22.1.0"},
		{"package.json", `{"engines": {"node": "^18 || 20.x"}}`, "node", "20.1.0", "19.0.0"},
		{".node-version", "v20.11.1\n", "node", "20.11.1", "20.12.0"},
		{".node-version", "20\n", "node", "20.12.0", "22.0.0"},
		{".python-version", "3.11\n", "python", "3.11.9", "3.12.1"},
		{"pyproject.toml", "[project]\nrequires-python = \">=3.9,<3.13\"\n", "python", "3.11.2", "3.13.0"},
		{"pyproject.toml", "[project]\nrequires-python = \"~=3.10\"\n", "python", "3.12.2", "3.9.0"},
		{"pyproject.toml", "[project]\nrequires-python = \"==3.11.*\"\n", "python", "3.11.2", "3.12.0"},
		{".ruby-version", "ruby-3.2.2\n", "ruby", "3.2.2", "3.2.3"},
		{"Gemfile", "source 'x'\nruby '~> 3.1'\n", "ruby", "3.3.0", "3.0.2"},
		{"Gemfile", "ruby \"~> 3.1.2\"\n", "ruby", "3.1.9", "3.2.0"},
		{"go.mod", "module x\n\ngo 1.25\n\ntoolchain go1.26.1\n", "go", "1.26.3", "1.26.0"},
		{"composer.json", `{"require": {"php": "^7.4|^8.1"}}`, "php", "8.2.7", "8.0.1"},
		{"composer.json", `{"require": {"php": "8.1.*"}}`, "php", "8.1.20", "8.2.0"},
	} {
		root := t.TempDir()
		dir := filepath.Join(root, "app")
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, c.file), []byte(c.text), 0o644))
		got := askedByFiles(root, dir)
		if !assert.Len(t, got, 1, "%s %s", c.file, c.text) {
			continue
		}
		assert.Equal(t, c.runtime, got[0].runtime)
		assert.Equal(t, c.file, got[0].by, "seen from the project's folder")
		assert.True(t, got[0].Allows(c.allows), "%s: %s", c.text, got[0].Constraint)
		assert.False(t, got[0].Allows(c.refuses), "%s: %s", c.text, got[0].Constraint)
	}
	for _, text := range []string{"lts/*", "system", "{", ""} {
		root := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(root, ".node-version"), []byte(text), 0o644))
		assert.Empty(t, askedByFiles(root, root), text)
	}
}

// Of all versions the newest that will do is chosen, wherever it is.
func TestChoose(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CACHE_HOME", filepath.Join(home, "cache"))
	t.Setenv("XDG_CONFIG_HOME", "/dev/null/none") // where the go command writes when it has ended
	bin := filepath.Join(home, "bin")
	install(t, bin, "node", "v18.20.4")
	install(t, bin, "php8.2", "PHP 8.2.7 (cli)")
	install(t, bin, "php8.4", "PHP 8.4.1 (cli)")
	install(t, bin, "phpize8.5", "nothing of ours 8.5.0")
	older := install(t, filepath.Join(home, ".any/versions/node/v20.9.0/bin"), "node", "v20.9.0")
	newer := install(t, filepath.Join(home, ".local/share/any/installs/node/22.1.0/bin"), "node", "v22.1.0")
	for name, c := range map[string]struct{ constraint, path string }{
		"the newest of all":  {">=18", newer},
		"the newest allowed": {"20", older},
	} {
		got := Kind{}.Runtimes(instance(t, bin, map[string]string{"node": c.constraint}))
		if assert.Len(t, got, 1, name) {
			assert.Equal(t, c.path, got[0].Path, name)
			assert.Equal(t, "uses", got[0].For)
		}
	}
	got := Kind{}.Runtimes(instance(t, bin, map[string]string{"php": "<8.4"}))
	assert.Equal(t, []kind.Runtime{{Name: "php", Program: "php", Version: "8.2.7", Path: filepath.Join(bin, "php8.2"), For: "uses"}}, got)
	assert.Empty(t, Kind{}.Runtimes(instance(t, bin, map[string]string{"node": ">=99"})), "what can't be had is told by the checks")

	in := instance(t, bin, map[string]string{"node": ">=22"})
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, "package.json"), []byte(`{"engines": {"node": "18.x"}}`), 0o644))
	assert.Equal(t, []string{"uses asks for node >=22, so that it runs on 22.1.0, and package.json asks for 18.x"}, Kind{}.Contradictions(in))
	in = instance(t, bin, nil)
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, ".node-version"), []byte("21"), 0o644))
	assert.Len(t, Kind{}.Unmet(in), 1)
	assert.Contains(t, Kind{}.Unmet(in)[0], ".node-version asks for node 21, and installed are only 22.1.0 ("+newer+")")
	in.Untrusted = true
	in.Env = map[string]string{"PATH": "/tmp/evil"}
	assert.Empty(t, Kind{}.Runtimes(in))
}
