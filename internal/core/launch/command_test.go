package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
	"neighbour/internal/core/wire"
)

// What tells most of a command's output, however it comes in pieces.
func TestTail(t *testing.T) {
	for _, c := range []struct{ output, cause, last string }{
		{"", "", ""},
		{"one\ntwo", "two", "two"},
		{"start\nTypeError: x is not a function\n    at y\nbye\n", "TypeError: x is not a function", "bye"},
		{"before\nError: no such tool\nafter\n", "Error: no such tool", "after"},
		{"psql: error: connection refused\nx\n", "psql: error: connection refused", "x"},
		{"\x1b[31mfatal: not a repository\x1b[0m\n\n\n", "fatal: not a repository", "fatal: not a repository"},
		{"an error of 3 mm\nall is well\n", "all is well", "all is well"},
	} {
		for _, size := range []int{1, 3, 1000} {
			var tail Tail
			for rest := c.output; rest != ""; {
				n := min(size, len(rest))
				_, err := tail.Write([]byte(rest[:n]))
				require.NoError(t, err)
				rest = rest[n:]
			}
			assert.Equal(t, c.cause, tail.Cause(), "%q", c.output)
			assert.Equal(t, c.last, tail.Last(), "%q", c.output)
		}
	}
	var tail Tail
	for i := range 5000 {
		fmt.Fprintf(&tail, "line %d\n", i)
	}
	assert.Equal(t, "line 4999", tail.Last())
	assert.LessOrEqual(t, len(tail.all), 2*tailLines, "not all of it is held")
	assert.Equal(t, []string{"line 4998", "line 4999"}, tail.lines(2))
}

func TestLookFor(t *testing.T) {
	dir, own := t.TempDir(), t.TempDir()
	for _, path := range []string{filepath.Join(dir, "bin", "tool"), filepath.Join(own, "tool")} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"), 0o755))
	}
	in := func(path string) []project.Explained {
		return []project.Explained{{Variable: wire.Variable{Name: "PATH", Value: path}}}
	}
	for _, c := range []struct{ name, path, want string }{
		{"bin/tool", "/nowhere", filepath.Join(dir, "bin", "tool")},
		{"./bin/tool", "/nowhere", filepath.Join(dir, "bin", "tool")},
		{filepath.Join(own, "tool"), "/nowhere", filepath.Join(own, "tool")},
		{"tool", own, filepath.Join(own, "tool")},
		{"tool", "bin", filepath.Join(dir, "bin", "tool")}, // seen from its folder
	} {
		got, err := LookFor(project.Command{Argv: []string{c.name}, Dir: dir, Variables: in(c.path)})
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, filepath.Clean(got), c.name)
	}
	for name, says := range map[string]string{"none": "there is no program none in PATH: /nowhere", "bin/none": "there is no program bin/none in " + dir, "/none": "there is no program /none in "} {
		_, err := LookFor(project.Command{Argv: []string{name}, Dir: dir, Variables: in("/nowhere")})
		assert.ErrorContains(t, err, says)
	}
}
