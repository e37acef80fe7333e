package proc_test

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// A process that is about to end gives its environment up before its memory. Its
// successor would find that memory in use, so it is waited for.
func TestWhatIsEndingIsWaitedFor(t *testing.T) {
	require.NoError(t, proc.Subreap())
	for range 5 {
		p, dir := run(t, `env -i setsid sh -c "echo \$\$ > pid; exec dd if=/dev/zero bs=256M count=1 2>&-" | exec sleep 100 & while [ ! -s pid ]; do sleep 0.01; done; exit 0`)
		ended(t, p)
		far := pidIn(t, filepath.Join(dir, "pid"))
		require.Eventually(t, func() bool {
			table, err := proc.ReadTable()
			return err == nil && table[far.PID] != nil && table[far.PID].Memory >= 256<<20
		}, testkit.Patience, 10*time.Millisecond)
		require.NoError(t, syscall.Kill(far.PID, syscall.SIGKILL))
		for asked := far.Alive(); asked; asked = far.Alive() {
			if env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", far.PID)); err != nil || len(env) == 0 {
				break
			}
		}
		require.NoError(t, p.KillAll(10*time.Second))
		assert.False(t, far.Alive())
	}
}
