package php

import (
	"fmt"
	"net"
	"net/http"
	"net/http/fcgi"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The standard library's FastCGI server is the other side.
func TestGet(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	long := strings.Repeat("x", 200_000) // more than a record holds
	go func() {
		_ = fcgi.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, "%s %s %s", r.Method, r.URL.Path, long)
		}))
	}()
	conn, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	answer, err := get(conn, pingPath)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(answer, "GET /neighbour-ping "+long))
}

func TestGetFromSomethingElse(t *testing.T) {
	for _, said := range []string{"", "HTTP/1.1 400 Bad Request\r\n\r\n"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			conn, err := l.Accept()
			if err == nil {
				_, _ = conn.Write([]byte(said))
				conn.Close()
			}
		}()
		conn, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		_, err = get(conn, pingPath)
		assert.Error(t, err, "%q is no FastCGI", said)
		conn.Close()
		l.Close()
	}
}
