package port_test

import (
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/port"
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
		assert.Regexp(t, `^port\.test .*, pid \d+, started \d+ s ago in .*port$`, h.String())
	}
	n := listen(t, "[::]:0")
	h := port.FindHolder(n)
	assert.Equal(t, "IPv6, all interfaces", h.Family())
	assert.Contains(t, h.Line, "port.test")
	id, err := h.ID()
	require.NoError(t, err)
	assert.True(t, id.Alive())
	assert.Equal(t, "a process of ines, of which no more can be seen from here", port.Holder{User: "ines"}.String())
	assert.Regexp(t, `^redis-server, pid 812 of nobody-else, started 2 h ago as the system's redis-server\.service$`,
		port.Holder{PID: 812, Command: "redis-server", User: "nobody-else", Started: time.Now().Add(-2 * time.Hour), Unit: "redis-server.service"}.String())
	assert.Equal(t, "python3 -m http.server 8000, pid 812", port.Holder{PID: 812, Command: "python3", Line: "/usr/bin/python3 -m http.server 8000"}.String())
	assert.Equal(t, "node aaaaaaaaaaaaaaaaaaaaaaa … aaaaaaaaaaaaaaaa --port 4100, pid 812", port.Holder{PID: 812, Line: "node " + strings.Repeat("a", 200) + " --port 4100"}.String())
	assert.Equal(t, "a process that can't be seen (another user's)", port.Holder{}.String())
}

func TestListeningAndStranger(t *testing.T) {
	n := listen(t, "127.0.0.1:0")
	addresses, err := port.Listening([]int{os.Getpid()})
	require.NoError(t, err)
	assert.Contains(t, addresses, netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(n)))
	addresses, err = port.Listening([]int{1 << 30})
	require.NoError(t, err)
	assert.Empty(t, addresses)

	own := func(pids ...int) func(bool) []int { return func(bool) []int { return pids } }
	h, err := port.Stranger(n, os.Getuid(), own(os.Getpid()))
	require.NoError(t, err)
	assert.Nil(t, h)
	h, err = port.Stranger(n, os.Getuid(), func(all bool) []int {
		if all {
			return []int{os.Getpid()}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Nil(t, h, "one of its other processes")
	h, err = port.Stranger(n, os.Getuid(), own(1<<30))
	require.NoError(t, err)
	assert.Equal(t, os.Getpid(), h.PID)
}

func TestForbidden(t *testing.T) {
	assert.Nil(t, port.Forbidden(listen(t, "127.0.0.1:0")), "held, and not forbidden")
	e := &port.ForbiddenError{Port: 80}
	assert.Regexp(t, `this user may not listen on port 80: ports under \d+ need a right`, e.Error())
	assert.Equal(t, "write port = 8080, which works, or allow it on this machine: sudo sysctl net.ipv4.ip_unprivileged_port_start=80", e.Remedy(8080))
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
