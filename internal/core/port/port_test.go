package port_test

import (
	"net"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/port"
)

func listen(t *testing.T, address string) int {
	t.Helper()
	l, err := net.Listen("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l.Addr().(*net.TCPAddr).Port
}

func TestHolder(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "0.0.0.0:0"} {
		n := listen(t, address)
		assert.False(t, port.Free(n), address)
		h := port.FindHolder(n)
		require.NotNil(t, h)
		assert.Equal(t, os.Getpid(), h.PID)
		assert.Regexp(t, `^port\.test, pid \d+, started \d+ s ago in .*port$`, h.String())
	}
	assert.Equal(t, "a process that can't be seen (another user's)", port.Holder{}.String())
}

func TestPick(t *testing.T) {
	n := listen(t, "127.0.0.1:0")
	got, err := port.Pick(n, func(p int) bool { return p == n+1 })
	require.NoError(t, err)
	assert.Greater(t, got, n+1, "neither the held one nor the reserved one")
	assert.True(t, port.Free(got))
	assert.Nil(t, port.FindHolder(got))
	_, err = port.Pick(65530, func(int) bool { return true })
	assert.ErrorContains(t, err, "no port from 65530 to 65535 is free")
	assert.Equal(t, os.Getpid(), port.Parents(os.Getpid())[0])
}
