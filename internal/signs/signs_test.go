package signs

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
)

// Each state has a sign of its own, with UTF-8 and without.
func TestSignsDiffer(t *testing.T) {
	seen, ascii := map[string]bool{}, map[string]bool{}
	for _, s := range []supervise.State{supervise.Stopped, supervise.Waiting, supervise.Preparing, supervise.Starting, supervise.Ready, supervise.Ailing, supervise.Stopping, supervise.Failed, supervise.Finished, supervise.Held} {
		seen[state(s)], ascii[display.ASCII(state(s))] = true, true
	}
	assert.Len(t, seen, 10)
	assert.Len(t, ascii, 10)
}
