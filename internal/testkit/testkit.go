// Package testkit is what tests of several packages share.
package testkit

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// Patience is how long a test waits for what has to come. Only a failure takes
// that long, so it is far more than a busy machine needs.
const Patience = 3 * time.Minute

// Need skips the test, visibly, unless one of the programs is installed; a
// name may be a pattern of paths. With CI=true a lack is a failure.
func Need(t testing.TB, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err == nil {
			return
		}
		// Servers are often outside an ordinary user's PATH.
		if _, err := os.Stat(filepath.Join("/usr/sbin", p)); err == nil {
			return
		}
		if found, _ := filepath.Glob(p); len(found) > 0 {
			return
		}
	}
	Lacking(t, programs[0]+" is not installed (scripts/packages.sh test installs what the tests need)")
}

// NeedRoot skips the test, visibly, unless it runs as root. That is no lack of the machine: with
// CI=true the tests run as root, too.
func NeedRoot(t testing.TB) {
	t.Helper()
	if os.Getuid() == 0 {
		return
	}
	t.Skip("only root can run it, as with: sudo make test")
}

// Lacking skips the test, or fails it with CI=true.
func Lacking(t testing.TB, why string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatal(why)
	}
	t.Skip(why)
}

// Postgres is where PostgreSQL's server is, for Need.
const Postgres = "/usr/lib/postgresql/*/bin/postgres"

// Terminal returns a terminal to write to, and what comes out of it.
func Terminal(t testing.TB) (*os.File, *bufio.Reader) {
	screen, terminal, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() {
		terminal.Close()
		screen.Close()
	})
	return terminal, bufio.NewReader(screen)
}
