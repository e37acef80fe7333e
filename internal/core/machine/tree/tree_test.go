package tree_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/tree"
)

func TestRemove(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.Mkdir(outside, 0o500))
	t.Cleanup(func() { _ = os.Chmod(outside, 0o700) })
	closed := filepath.Join(dir, "data", "a", "b")
	require.NoError(t, os.MkdirAll(closed, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(closed, "file"), nil, 0o400))
	require.NoError(t, os.Symlink(outside, filepath.Join(closed, "link")))
	require.NoError(t, os.Chmod(closed, 0o555))
	require.NoError(t, os.Chmod(filepath.Dir(closed), 0))
	require.NoError(t, tree.Remove(filepath.Join(dir, "data")))
	assert.NoDirExists(t, filepath.Join(dir, "data"))
	info, err := os.Stat(outside)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o500), info.Mode().Perm(), "what a link leads to stays as it is")
	assert.NoError(t, tree.Remove(filepath.Join(dir, "nothing")))
}
