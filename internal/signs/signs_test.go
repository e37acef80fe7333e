package signs

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/core/keep"
	"neighbour/internal/display"
)

// Each state has a sign of its own, with UTF-8 and without.
func TestSignsDiffer(t *testing.T) {
	seen, ascii := map[string]bool{}, map[string]bool{}
	for _, s := range []keep.State{keep.Stopped, keep.Waiting, keep.Preparing, keep.Starting, keep.Ready, keep.Ailing, keep.Stopping, keep.Failed, keep.Finished} {
		seen[state(s)], ascii[display.ASCII(state(s))] = true, true
	}
	assert.Len(t, seen, 9)
	assert.Len(t, ascii, 9)
}
