package tui_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What draws knows no keeper, the shell no view, and the commands no screen.
func TestLayers(t *testing.T) {
	for of, banned := range map[string][]string{
		"neighbour/internal/tui/ui":    {"neighbour/internal/core", "neighbour/internal/api", "neighbour/internal/tui/view"},
		"neighbour/internal/tui/view":  {"neighbour/internal/tui/shell", "neighbour/internal/tui/views"},
		"neighbour/internal/tui/shell": {"neighbour/internal/tui/views"},
		"neighbour/internal/cli":       {"neighbour/internal/tui", "charm.land/bubbletea"},
	} {
		out, err := exec.Command("go", "list", "-deps", of).CombinedOutput()
		require.NoError(t, err, string(out))
		for dep := range strings.FieldsSeq(string(out)) {
			for _, b := range banned {
				assert.False(t, dep != of && strings.HasPrefix(dep, b), "%s imports %s", of, dep)
			}
		}
	}
}
