package command

import (
	"neighbour/internal/testkit"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How far something is stands in one line that is written over, without what could move the
// cursor elsewhere.
func TestTellingOnATerminal(t *testing.T) {
	terminal, screen := testkit.Terminal(t)
	a := &App{Live: terminal}
	done := a.Telling(func() string { return "12 MB of \x1b[2Jledger" })
	line, err := screen.ReadString('K')
	require.NoError(t, err)
	assert.Equal(t, "\r12 MB of ledger\x1b[K", line)
	done()
	for line != "\r\x1b[K" { // it may have been told more than once
		line, err = screen.ReadString('K')
		require.NoError(t, err)
	}
}
