package shell

import (
	"context"
	"os"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGone(t *testing.T) {
	t.Parallel()
	open := func() (master, terminal *os.File) {
		master, terminal, err := pty.Open()
		require.NoError(t, err)
		t.Cleanup(func() { master.Close(); terminal.Close() })
		return master, terminal
	}

	ctx, cancel := context.WithCancel(t.Context())
	_, terminal := open()
	stayed := make(chan bool)
	go func() { stayed <- gone(ctx, terminal) }()
	cancel()
	assert.False(t, <-stayed, "it was the context")

	master, terminal := open()
	closed := make(chan bool)
	go func() { closed <- gone(t.Context(), terminal) }()
	_, err := master.WriteString("q\n") // a key is no end
	require.NoError(t, err)
	select {
	case <-closed:
		t.Fatal("the terminal is there")
	default:
	}
	require.NoError(t, master.Close())
	assert.True(t, <-closed)
}
