package proc_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// What is said of a folder is what the system does when the account tries,
// and the remedy mends it.
func TestWriteProblem(t *testing.T) {
	testkit.NeedRoot(t)
	nobody, err := proc.FindAccount("nobody")
	require.NoError(t, err)
	top, err := os.MkdirTemp("/tmp", "rights")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	for name, c := range map[string]struct {
		parent, mode os.FileMode
		uid, gid     int
		says, remedy string
	}{
		"its own":         {0o755, 0o700, nobody.UID, 0, "", ""},
		"its group's":     {0o755, 0o770, 0, nobody.GID, "", ""},
		"everybody's":     {0o755, 0o777, 0, 0, "", ""},
		"root's":          {0o755, 0o755, 0, 0, "can't be written by nobody: it is of root with mode 0755", "chown nobody "},
		"its own, closed": {0o755, 0o500, nobody.UID, 0, "can't be written by nobody", "chmod u+wx "},
		"below a closed":  {0o700, 0o777, 0, 0, "doesn't let it pass", "chmod o+x "},
		"no search":       {0o755, 0o772, 0, 0, "can't be written by nobody", "chown nobody "},
	} {
		parent := filepath.Join(top, name)
		dir := filepath.Join(parent, "uploads")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.Chown(dir, c.uid, c.gid))
		require.NoError(t, os.Chmod(dir, c.mode))
		require.NoError(t, os.Chmod(parent, c.parent))
		try := func() bool {
			p, err := proc.Start(proc.Spec{Argv: []string{"/bin/sh", "-c", `echo x > "$1/x"`, "sh", dir}, Env: []string{"PATH=/bin:/usr/bin"}, Dir: "/", Mark: "rights:test", Account: nobody})
			require.NoError(t, err)
			<-p.Done()
			return p.Exit().OK()
		}
		problem := proc.WriteProblem(nobody, dir)
		assert.Equal(t, problem == nil, try(), name)
		if c.says == "" {
			assert.Nil(t, problem, name)
			continue
		}
		require.NotNil(t, problem, name)
		assert.Contains(t, problem.Error(), c.says, name)
		assert.Contains(t, problem.Remedy, c.remedy, name)
		require.NoError(t, problem.Mend(), name)
		assert.Nil(t, proc.WriteProblem(nobody, dir), name)
		assert.True(t, try(), name)
	}
	missing := proc.WriteProblem(nobody, filepath.Join(top, "new", "it's"))
	assert.True(t, missing.Missing)
	assert.Equal(t, `mkdir -p '`+top+`/new/it'\''s'`, missing.Remedy)
	require.NoError(t, missing.Mend())
	assert.DirExists(t, filepath.Join(top, "new", "it's"))
	file := filepath.Join(top, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	problem := proc.WriteProblem(nil, file)
	assert.ErrorContains(t, problem, "is a file, not a folder")
	assert.ErrorContains(t, problem.Mend(), "can't be mended from here")
	assert.Nil(t, proc.WriteProblem(nil, top))
	assert.ErrorContains(t, proc.Ask(proc.ID{PID: 1 << 22}, "TERM"), "has ended")
}
