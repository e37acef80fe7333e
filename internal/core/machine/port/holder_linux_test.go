package port

import (
	"net"
	"os"
	"slices"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseAddress(t *testing.T) {
	for text, want := range map[string]string{
		"0100007F:1538": "127.0.0.1 5432", "00000000:0016": "0.0.0.0 22",
		"00000000000000000000000001000000:1F90": "::1 8080", "0000000000000000FFFF00000100007F:0050": "127.0.0.1 80",
		"XX:0050": "", "0100007F": "", "01:0050": "",
	} {
		a, port, ok := parseAddress(text)
		assert.Equal(t, want != "", ok, text)
		if ok {
			assert.Equal(t, want, a.String()+" "+strconv.Itoa(port), text)
		}
	}
	assert.Equal(t, "postgresql@15-main.service", unitOf("0::/system.slice/system-postgresql.slice/postgresql@15-main.service\n"))
	assert.Empty(t, unitOf("0::/user.slice/user-1000.slice/session-2.scope\n"))
}

// The kernel's answer and its files tell the same.
func TestListeningBothWays(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0", "0.0.0.0:0", "[::]:0"} {
		l, err := net.Listen("tcp", address)
		require.NoError(t, err)
		defer l.Close()
		n := l.Addr().(*net.TCPAddr).Port
		one := func(all []socket, err error) []socket {
			require.NoError(t, err)
			return slices.DeleteFunc(all, func(s socket) bool { return s.port != n })
		}
		asked := one(listening())
		require.NotEmpty(t, asked, address)
		assert.ElementsMatch(t, one(listeningInProc()), asked, address)
		assert.Equal(t, os.Getuid(), asked[0].uid)
	}
	_, err := readDiag(syscall.NetlinkMessage{Data: []byte{2, 10}})
	assert.ErrorIs(t, err, errDiag)
}

// Whoever looks whether a port is free is in the way of no server that takes it meanwhile.
func TestLookingHoldsNothing(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	n := l.Addr().(*net.TCPAddr).Port
	require.False(t, Free(n))
	require.NoError(t, l.Close())
	over, looked := make(chan struct{}), make(chan int)
	for range 4 {
		go func() {
			count := 0
			for {
				select {
				case <-over:
					looked <- count
					return
				default:
					Free(n)
					count++
				}
			}
		}()
	}
	for range 2000 {
		l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(n))
		if !assert.NoError(t, err) {
			break
		}
		l.Close()
	}
	close(over)
	for range 4 {
		assert.Positive(t, <-looked)
	}
}
