// Package core has no code of its own: it is the folder of what Neighbour
// does, without any interface.
package core

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The core must be usable without an interface, so it may import none, and
// no terminal library.
func TestCoreImportsNoInterface(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "neighbour/internal/core/...").CombinedOutput()
	require.NoError(t, err, string(out))
	for dep := range strings.FieldsSeq(string(out)) {
		for _, banned := range []string{"neighbour/internal/tui", "neighbour/internal/cli", "neighbour/internal/api", "neighbour/internal/draw", "charm.land/", "github.com/charmbracelet/", "github.com/spf13/cobra"} {
			assert.False(t, strings.HasPrefix(dep, banned), "the core imports %s", dep)
		}
	}
}
