package proc

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A group is made below the nearest one that hands on what is wanted, with
// its limits; where there is none, the reason is told.
func TestConfine(t *testing.T) {
	root := t.TempDir()
	group := func(path, handsOn string) {
		dir := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte(handsOn+"\n"), 0o644))
	}
	group("user", "cpu memory pids")
	group("user/app", "memory pids")
	group("user/app/terminal", "")
	group("", "")
	own := "/user/app/terminal"
	g, err := confineBelow(root, own, []string{"memory"}, "shed", 512<<20, 0)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(root, "user/app/shed"), g.dir, "memory is handed on next above")
	for file, want := range map[string]string{"memory.max": "536870912", "memory.swap.max": "0"} {
		b, err := os.ReadFile(filepath.Join(g.dir, file))
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	require.NoError(t, os.WriteFile(filepath.Join(g.dir, "memory.events"), []byte("max 9\noom 1\noom_kill 2\n"), 0o644))
	assert.Equal(t, 2, g.Killed())
	g, err = confineBelow(root, own, []string{"memory", "cpu"}, "shed", 1, 1.5)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(root, "user/shed"), g.dir)
	b, err := os.ReadFile(filepath.Join(g.dir, "cpu.max"))
	require.NoError(t, err)
	assert.Equal(t, "150000 100000", string(b))
	group("user", "")
	_, err = confineBelow(root, own, []string{"cpu"}, "shed", 0, 1)
	assert.ErrorContains(t, err, "no control group that this user may use hands on cpu")
	var none *Group
	assert.Zero(t, none.Killed())
	none.Remove()
}
