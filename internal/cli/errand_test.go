package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declare"
)

// An errand's name in the place of a command runs it, and nothing else is touched.
func TestErrandsAsCommands(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.api]\nrun = \"x\"\n[errand.overdue]\nrun = \"x\"\n"), 0o644))
	a := &app{}
	root := a.root()
	for _, c := range []struct{ args, want []string }{
		{[]string{"-C", dir, "overdue", "--dry-run"}, []string{"-C", dir, "run", "overdue", "--dry-run"}},
		{[]string{"-C" + dir, "overdue"}, []string{"-C" + dir, "run", "overdue"}},
		{[]string{"--dir=" + dir, "overdue", "status"}, []string{"--dir=" + dir, "run", "overdue", "status"}},
		{[]string{"--dir", dir, "status", "overdue"}, nil},
		{[]string{"-C", dir, "overdu"}, nil},
		{[]string{"-C", dir, "--help", "overdue"}, nil},
		{[]string{"-C", filepath.Join(dir, "none"), "overdue"}, nil},
		{[]string{"-C"}, nil},
		{nil, nil},
	} {
		want := c.want
		if want == nil {
			want = c.args
		}
		assert.Equal(t, want, a.spelledOut(root, c.args), c.args)
	}
}

// The declaration knows all names that errands must leave alone.
func TestCommandNamesAreKept(t *testing.T) {
	root := (&app{}).root()
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if !c.Hidden {
			assert.Contains(t, declare.CommandNames, c.Name())
		}
	}
}
