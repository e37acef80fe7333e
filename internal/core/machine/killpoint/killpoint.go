// Package killpoint ends this process at a named point of its code, as a test wants it:
// what a kill at that moment leaves behind can then be looked at, each time anew.
package killpoint

import (
	"os"
	"sync"
	"syscall"
	"time"
)

// Variable names the point at which a process kills itself.
const Variable = "NEIGHBOUR_KILL_AT"

var wanted = sync.OnceValue(func() string { return os.Getenv(Variable) })

// Reach kills this process (SIGKILL) if Variable names the point, and does nothing
// otherwise.
func Reach(point string) {
	if wanted() != point {
		return
	}
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
	time.Sleep(time.Hour) // it comes at once, but not before the next instruction
}
