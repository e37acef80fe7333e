package data

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A line to a port: what is typed is sent, and what is answered last is seen.
func TestTalk(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			lines := bufio.NewScanner(conn)
			for lines.Scan() {
				if lines.Text() == "quit" {
					break
				}
				fmt.Fprintf(conn, "heard %q\n", lines.Text())
			}
			fmt.Fprintln(conn, "bye")
			conn.Close()
		}
	}()
	for in, want := range map[string]string{"a\nb": "heard \"a\"\nheard \"b\"\nbye\n", "quit\n": "bye\n", "": "bye\n"} {
		var out, notes bytes.Buffer
		require.NoError(t, talk(t.Context(), l.Addr().String(), strings.NewReader(in), &out, &notes))
		assert.Equal(t, want, out.String(), in)
		assert.Contains(t, notes.String(), "control+D ends it")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Error(t, talk(ctx, l.Addr().String(), strings.NewReader(""), &bytes.Buffer{}, &bytes.Buffer{}))
}
