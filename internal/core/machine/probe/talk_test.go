package probe_test

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/probe"
)

// A conversation has the check's deadline, and its errors are in plain words.
func TestTalk(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprintln(conn, "hello") // and then nothing more
		}
	}()
	hear := func(lines int) probe.Probe {
		return probe.Talk(l.Addr().String(), func(conn net.Conn) (answer string, err error) {
			in := bufio.NewReader(conn)
			for range lines {
				if answer, err = in.ReadString('\n'); err != nil {
					return "", err
				}
			}
			return answer, nil
		})
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	answer, err := hear(1).Check(ctx)
	require.NoError(t, err)
	assert.Equal(t, "hello\n", answer)
	_, err = hear(2).Check(ctx)
	assert.ErrorContains(t, err, "no answer")
	l.Close()
	_, err = hear(1).Check(t.Context())
	assert.EqualError(t, err, "connection refused")
}
