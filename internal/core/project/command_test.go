package project

import (
	"neighbour/internal/core/declaration/wire"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever the arguments are, a command gets them as they are: a list of words,
// a line that a real shell runs, and a line that uses them itself.
func TestArgumentsArePassedAsTheyAre(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		args := rapid.SliceOfN(rapid.StringOf(rapid.RuneFrom([]rune("ab \t\n'\"\\$`*?!#;&|<>()[]{}~=-%é"))), 0, 4).Draw(r, "args")
		want := ""
		for _, a := range args {
			want += "<" + a + ">"
		}
		for _, c := range []struct {
			argv  []string
			shell bool
		}{
			{[]string{"/bin/sh", "-c", `for a; do printf '<%s>' "$a"; done`, "x"}, false},
			{[]string{"/bin/sh", "-c", `f() { for a; do printf '<%s>' "$a"; done; }; f  `}, true},
			{[]string{"/bin/sh", "-c", `for a in "$@"; do printf '<%s>' "$a"; done; true`}, true},
		} {
			argv := withArguments(c.argv, c.shell, args)
			out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
			require.NoError(r, err, strings.Join(argv, " "))
			assert.Equal(r, want, string(out), "%q", argv)
		}
	})
}

func TestProgramsOfCommands(t *testing.T) {
	dir, own := t.TempDir(), t.TempDir()
	for _, path := range []string{filepath.Join(dir, "bin", "tool"), filepath.Join(own, "tool")} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"), 0o755))
	}
	in := func(path string) []Explained {
		return []Explained{{Variable: wire.Variable{Name: "PATH", Value: path}}}
	}
	for _, c := range []struct{ name, path, want string }{
		{"bin/tool", "/nowhere", filepath.Join(dir, "bin", "tool")},
		{"./bin/tool", "/nowhere", filepath.Join(dir, "bin", "tool")},
		{filepath.Join(own, "tool"), "/nowhere", filepath.Join(own, "tool")},
		{"tool", own, filepath.Join(own, "tool")},
		{"tool", "bin", filepath.Join(dir, "bin", "tool")}, // seen from its folder
	} {
		got, err := Command{Argv: []string{c.name}, Dir: dir, Variables: in(c.path)}.Program()
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, filepath.Clean(got), c.name)
	}
	for name, says := range map[string]string{"none": "none is not installed (looked in its PATH: /nowhere); install it, or correct the command", "bin/none": "there is no program " + dir + "/bin/none", "/none": "there is no program /none", "node": "node is not installed (looked in its PATH: /nowhere)"} {
		_, err := Command{Argv: []string{name}, Dir: dir, Variables: in("/nowhere")}.Program()
		assert.ErrorContains(t, err, says)
	}
}
