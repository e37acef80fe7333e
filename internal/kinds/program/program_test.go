package program

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// instance is a service with runtimes that it uses, in folders of a PATH.
func instance(t *testing.T, path string, uses map[string]string) *kind.Instance {
	t.Helper()
	s := &Settings{Uses: map[string]declare.Constraint{}}
	for name, text := range uses {
		var c declare.Constraint
		require.NoError(t, c.UnmarshalText([]byte(text)))
		s.Uses[name] = c
	}
	return &kind.Instance{Service: &declare.Service{Settings: s}, Root: t.TempDir(), Env: map[string]string{"PATH": path},
		Argv: func(c declare.Command) ([]string, error) { return strings.Fields(c.String()), nil }}
}

func install(t *testing.T, dir, name, answer string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\ncat <<'X'\n"+answer+"\nX\n"), 0o755))
	return path
}

// What is first in PATH is what runs; the others on the machine are named.
func TestUses(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CACHE_HOME", filepath.Join(home, "cache"))
	// The go command of this machine, which is asked, too, writes there when it has ended.
	t.Setenv("XDG_CONFIG_HOME", "/dev/null/none")
	one, two := filepath.Join(home, "one"), filepath.Join(home, "two")
	install(t, one, "node", "v18.20.4")
	install(t, two, "node", "v22.1.0")
	install(t, one, "go", "go version go1.26.3 linux/amd64")
	install(t, one, "java", "openjdk version \"21.0.4\" 2024-07-16")
	install(t, two, "python3", "Python 3.12.1")
	install(t, one, "python", "Python 2.7.18")
	install(t, one, "elixir", "Erlang/OTP 25 [erts-13.1.5]\n\nElixir 1.14.0 (compiled with Erlang/OTP 24)")
	install(t, one, "erl", "Erlang (SMP,ASYNC_THREADS) (BEAM) emulator version 13.1.5")
	install(t, one, "perl", "\nThis is perl 5, version 36, subversion 0 (v5.36.0) built for x86_64")
	install(t, one, "odd", "no number here")
	kept := install(t, filepath.Join(home, ".anything/versions/node/v20.9.0/bin"), "node", "v20.9.0")
	path := one + string(os.PathListSeparator) + two
	for name, c := range map[string]struct{ version, says string }{
		"node":   {">=18, <19", ""},
		"go":     {"1.26", ""},
		"java":   {">=21", ""},
		"python": {">=3.12", ""}, // by the name that means version 3, wherever it is
		"elixir": {"~1.14", ""},
		"erlang": {"13", ""},
		"perl":   {">=5.30", ""},
		"rust":   {"1", "rustc is not installed (looked in its PATH: "},
		"odd":    {"1", "where no version was found"},
	} {
		err := checkUses(instance(t, path, map[string]string{name: c.version}))
		if c.says == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.says, name)
		}
	}
	err := checkUses(instance(t, path, map[string]string{"node": ">=20", "go": ">=2"}))
	assert.ErrorContains(t, err, `uses node = ">=20", and `+filepath.Join(one, "node")+` is 18.20.4; also installed: 22.1.0 (`+filepath.Join(two, "node")+`), 20.9.0 (`+kept+`); install one that will do`)
	assert.ErrorContains(t, err, `uses go = ">=2", and `, "all that is wrong is told")
}

// The runtime that the command names by its path is asked, not that of PATH.
func TestUsesOfTheCommand(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", "/dev/null/none")
	bin := t.TempDir()
	install(t, bin, "python3", "Python 3.9.2")
	in := instance(t, bin, map[string]string{"python": ">=3.12"})
	own := install(t, filepath.Join(in.Root, ".venv/bin"), "python3.12", "Python 3.12.1")
	assert.ErrorContains(t, checkUses(in), "install one that will do")
	in.Service.Settings.(*Settings).Run = declare.Command{Line: declare.Text{Value: ".venv/bin/python3.12 manage.py"}}
	assert.NoError(t, checkUses(in))
	in.Service.Settings.(*Settings).Run = declare.Command{Line: declare.Text{Value: filepath.Join(bin, "python3") + " manage.py"}}
	assert.ErrorContains(t, checkUses(in), "name one that will do in run")
	require.NoError(t, os.Remove(own))
}

func TestLookAndConsole(t *testing.T) {
	dir := t.TempDir()
	in := instance(t, "bin", nil)
	in.Root = dir
	own := install(t, filepath.Join(dir, "bin"), "tool", "x")
	got, err := look(in, "tool")
	require.NoError(t, err)
	assert.Equal(t, own, got, "PATH may be relative to the service's folder")
	got, err = look(in, "bin/tool")
	require.NoError(t, err)
	assert.Equal(t, own, got)
	_, err = look(in, "bin/none")
	assert.True(t, kind.MayBeMade(err))
	require.NoError(t, os.Chmod(own, 0o644))
	_, err = look(in, "./bin/tool")
	assert.ErrorContains(t, err, "is not executable; make it so with: chmod +x")
	t.Setenv("SHELL", "/bin/fish")
	argv, err := Kind{}.Console(in)
	require.NoError(t, err)
	assert.Equal(t, []string{"/bin/fish"}, argv)
}
