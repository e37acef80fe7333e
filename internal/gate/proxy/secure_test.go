package proxy

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// upgrading answers like a service with a page and a socket.
func upgrading(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Upgrade") != "" {
		conn, rw, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprint(rw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\nready")
		_ = rw.Flush()
		_, _ = io.Copy(conn, rw)
		return
	}
	b, _ := io.ReadAll(r.Body)
	name := ""
	if r.TLS != nil {
		name = r.TLS.ServerName
	}
	fmt.Fprintf(w, "%s %s by TLS for %q: %s", r.Method, r.Host, name, b)
}

// A service that ends TLS itself is led to as well, whether it refuses plain text in words, as
// servers in Go do, or by closing the connection; also when it begins or ceases to.
func TestServicesThatEndTLS(t *testing.T) {
	certificates := httptest.NewUnstartedServer(nil)
	certificates.StartTLS()
	defer certificates.Close()
	serve := func(address string, wrap func(net.Listener) net.Listener) (*http.Server, string) {
		l, err := net.Listen("tcp", address)
		require.NoError(t, err)
		s := &http.Server{Handler: http.HandlerFunc(upgrading)}
		go func() { _ = s.Serve(wrap(l)) }()
		return s, l.Addr().String()
	}
	own := &tls.Config{Certificates: certificates.TLS.Certificates}
	for name, wrap := range map[string]func(net.Listener) net.Listener{
		"in words": func(l net.Listener) net.Listener { return tls.NewListener(l, own) },
		"silently": func(l net.Listener) net.Listener { return tls.NewListener(mute{l}, own) },
	} {
		t.Run(name, func(t *testing.T) {
			s, address := serve("127.0.0.1:0", wrap)
			w := before(t, &url.URL{Scheme: "http", Host: address})
			for range 2 {
				resp, text := w.ask("GET", "shed.localhost/", "")
				assert.Equal(t, http.StatusOK, resp.StatusCode, text)
				assert.Equal(t, `GET shed.localhost by TLS for "shed.localhost": `, text)
			}
			_, text := w.ask("POST", "shed.localhost/", "saw")
			assert.Equal(t, `POST shed.localhost by TLS for "shed.localhost": saw`, text)

			conn, err := net.Dial("tcp", w.front.Listener.Addr().String())
			require.NoError(t, err)
			defer conn.Close()
			fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: shed.localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
			in := bufio.NewReader(conn)
			switched, err := http.ReadResponse(in, nil)
			require.NoError(t, err)
			require.Equal(t, http.StatusSwitchingProtocols, switched.StatusCode)
			fmt.Fprint(conn, " echo")
			said := make([]byte, len("ready echo"))
			_, err = io.ReadFull(in, said)
			require.NoError(t, err)
			assert.Equal(t, "ready echo", string(said))
			conn.Close()

			require.NoError(t, s.Close())
			resp, _ := w.ask("GET", "shed.localhost/", "")
			assert.Equal(t, http.StatusServiceUnavailable, resp.StatusCode)
			s, _ = serve(address, wrap)
			resp, text = w.ask("GET", "shed.localhost/", "")
			assert.Equal(t, http.StatusOK, resp.StatusCode, text)

			require.NoError(t, s.Close())
			s, _ = serve(address, func(l net.Listener) net.Listener { return l })
			defer s.Close()
			resp, text = w.ask("GET", "shed.localhost/", "")
			assert.Equal(t, http.StatusOK, resp.StatusCode, text)
			assert.Equal(t, `GET shed.localhost by TLS for "": `, text, "it is plain now")
		})
	}
}

// Who refuses a request for another reason is not asked for TLS: its log would say so.
func TestRefusalsOfTheService(t *testing.T) {
	var connections atomic.Int32
	up := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusBadRequest)
		_, _ = io.WriteString(w, `{"name": ["This field is required."]}`)
	}))
	up.Config.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateNew {
			connections.Add(1)
		}
	}
	up.Start()
	defer up.Close()
	u, err := url.Parse(up.URL)
	require.NoError(t, err)
	w := before(t, u)
	for range 2 {
		resp, text := w.ask("GET", "shed.localhost/", "")
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
		assert.Equal(t, `{"name": ["This field is required."]}`, text)
	}
	assert.EqualValues(t, 2, connections.Load())
}

// mute is a listener whose connections say nothing to who doesn't speak TLS, as Node's.
type mute struct{ net.Listener }

func (m mute) Accept() (net.Conn, error) {
	c, err := m.Listener.Accept()
	return &muted{Conn: c}, err
}

type muted struct {
	net.Conn
	begun bool
}

func (m *muted) Read(b []byte) (int, error) {
	n, err := m.Conn.Read(b)
	if n > 0 && !m.begun && b[0] != 22 {
		m.Conn.Close()
		return 0, io.EOF
	}
	m.begun = m.begun || n > 0
	return n, err
}
