package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

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
