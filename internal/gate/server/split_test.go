package server

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

// On one port who asks by TLS is answered, and who asks without is told where to; both end with
// the listener.
func TestSplit(t *testing.T) {
	defer goleak.VerifyNone(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	begun, plain := split(l)
	certificate := httptest.NewUnstartedServer(nil)
	certificate.StartTLS()
	defer certificate.Close()
	secure := &http.Server{TLSConfig: &tls.Config{Certificates: certificate.TLS.Certificates}, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.Proto+" of "+r.URL.Path)
	})}
	onward := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://"+r.Host+r.RequestURI, http.StatusTemporaryRedirect)
	})}
	ends := make(chan error, 2)
	go func() { ends <- secure.ServeTLS(begun, "", "") }()
	go func() { ends <- onward.Serve(plain) }()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}}
	resp, err := client.Get("http://" + l.Addr().String() + "/tools")
	require.NoError(t, err)
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, "HTTP/2.0 of /tools", string(text))
	silent, err := net.Dial("tcp", l.Addr().String()) // which begins nothing, and is in nobody's way
	require.NoError(t, err)
	resp, err = client.Get("https://" + l.Addr().String() + "/")
	require.NoError(t, err)
	resp.Body.Close()
	client.CloseIdleConnections()
	silent.Close()
	require.NoError(t, secure.Close())
	require.NoError(t, onward.Close())
	for range 2 { // the second had its listener closed by the first
		err := <-ends
		assert.True(t, errors.Is(err, http.ErrServerClosed) || errors.Is(err, net.ErrClosed), err)
	}
}
