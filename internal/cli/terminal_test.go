package cli

import (
	"bufio"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onTerminal returns an app that writes to a terminal, and what comes out there.
func onTerminal(t *testing.T) (*app, *bufio.Reader) {
	t.Setenv("NO_COLOR", "")
	t.Setenv("TERM", "xterm")
	screen, terminal, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() {
		terminal.Close()
		screen.Close()
	})
	return &app{out: &cleaner{to: terminal}, err: &cleaner{to: terminal}, raw: terminal, live: terminal}, bufio.NewReader(screen)
}

// How far something is stands in one line that is written over, without what could move the
// cursor elsewhere.
func TestTellingOnATerminal(t *testing.T) {
	a, screen := onTerminal(t)
	done := a.telling(func() string { return "12 MB of \x1b[2Jledger" })
	line, err := screen.ReadString('K')
	require.NoError(t, err)
	assert.Equal(t, "\r12 MB of ledger\x1b[K", line)
	done()
	for line != "\r\x1b[K" { // it may have been told more than once
		line, err = screen.ReadString('K')
		require.NoError(t, err)
	}
}

// A QR code is black on white, whatever the terminal's colours are: few scanners read others.
func TestPhoneOnATerminal(t *testing.T) {
	a, screen := onTerminal(t)
	printed := make(chan error)
	go func() {
		err := a.printPhone("http://192.0.2.2:8800")
		a.out.Flush()
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
