package postgres

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind"
)

// A server can be killed between making a lock file and writing into it.
func TestEmptyLocks(t *testing.T) {
	in := &kind.Instance{Data: t.TempDir(), Run: t.TempDir()}
	require.NoError(t, removeEmptyLocks(in), "nothing is there yet")
	require.NoError(t, os.Mkdir(cluster(in), 0o700))
	files := map[string]string{
		filepath.Join(in.Run, ".s.PGSQL.5434.lock"):   "",
		filepath.Join(in.Run, ".s.PGSQL.5435.lock"):   "812\n",
		filepath.Join(in.Run, "other.lock"):           "",
		filepath.Join(cluster(in), "postmaster.pid"):  "",
		filepath.Join(cluster(in), "postmaster.opts"): "",
	}
	for name, content := range files {
		require.NoError(t, os.WriteFile(name, []byte(content), 0o600))
	}
	require.NoError(t, removeEmptyLocks(in))
	for name := range files {
		gone := name == filepath.Join(in.Run, ".s.PGSQL.5434.lock") || name == filepath.Join(cluster(in), "postmaster.pid")
		_, err := os.Stat(name)
		assert.Equal(t, gone, os.IsNotExist(err), name)
	}
}

func TestSharedMemoryInUse(t *testing.T) {
	const pidFile = "30767\n/data\n1764135376\n5433\n/run\n127.0.0.1\n   1482915   1212425\nstarting\n"
	const head = "       key      shmid perms                  size  cpid  lpid nattch   uid   gid  cuid  cgid\n"
	assert.Equal(t, "1212425", sharedMemory(pidFile))
	assert.Empty(t, sharedMemory("30767\n/data\n1764135376\n5433\n"), "killed before it had any")
	for nattch, want := range map[string]bool{"0": false, "2": true} {
		assert.Equal(t, want, attached(head+"   1482915    1212425   600                    56 30767 30770      "+nattch+"   113   120   113   120\n", "1212425"))
	}
	assert.False(t, attached(head, "1212425"), "it is gone")
}
