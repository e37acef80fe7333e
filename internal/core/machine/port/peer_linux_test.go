package port

import (
	"net"
	"net/netip"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The user at the other end of a connection is known as long as the connection stands, whichever way
// the kernel is asked.
func TestPeer(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		require.NoError(t, err)
		defer l.Close()
		client, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		server, err := l.Accept()
		require.NoError(t, err)
		defer server.Close()
		at, from := netip.MustParseAddrPort(server.LocalAddr().String()), netip.MustParseAddrPort(server.RemoteAddr().String())
		for name, ask := range map[string]func(local, remote netip.AddrPort) (int, bool, bool){"netlink": peer, "proc": peerInProc} {
			uid, is, known := ask(at, from)
			assert.True(t, is && known, "%s %s", name, address)
			assert.Equal(t, os.Getuid(), uid, "%s %s", name, address)
			_, is, known = ask(at, netip.AddrPortFrom(from.Addr(), 1))
			assert.True(t, !is && known, "%s %s", name, address)
		}
		assert.False(t, Strangers(server.LocalAddr(), server.RemoteAddr()))
		require.NoError(t, client.Close())
		assert.True(t, Strangers(server.LocalAddr(), server.RemoteAddr()), "of one that is gone nobody can tell whose it was")
	}
}
