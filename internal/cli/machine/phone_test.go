package machine

import (
	"neighbour/internal/cli/command"
	"neighbour/internal/testkit"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A QR code is black on white, whatever the terminal's colours are: few scanners read others.
func TestPhoneOnATerminal(t *testing.T) {
	t.Setenv("NO_COLOR", "")
	t.Setenv("TERM", "xterm")
	terminal, screen := testkit.Terminal(t)
	a := &command.App{Out: &command.Cleaner{To: terminal}, Raw: terminal}
	printed := make(chan error)
	go func() {
		err := printPhone(a, "http://192.0.2.2:8800")
		a.Out.Flush()
		printed <- err
	}()
	for range 10 {
		line, err := screen.ReadString('\n')
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(line, "  \x1b[30;107m"), "%q", line)
		assert.True(t, strings.HasSuffix(line, "\x1b[0m\r\n"), "%q", line)
	}
	for { // the rest of it
		line, err := screen.ReadString('\n')
		require.NoError(t, err)
		if strings.Contains(line, "▲") {
			break
		}
	}
	require.NoError(t, <-printed)
}
