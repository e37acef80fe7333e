package proxy

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"neighbour/internal/core/declaration/route"
)

// secure remembers which services end TLS themselves. Nobody declares that: it is found out
// when one doesn't answer in plain text.
type secure struct {
	mu    sync.Mutex
	found map[string]finding // by address
}

type finding struct {
	tls bool
	at  time.Time
}

// A service that does not speak TLS is not asked again for a while, since it may say in its log
// that it was, and not for long.
const (
	askAgain = 10 * time.Second
	askFor   = 500 * time.Millisecond
)

func (s *secure) has(address string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.found[address].tls
}

func (s *secure) note(address string, tls bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.found == nil || len(s.found) > 1000 {
		s.found = map[string]finding{}
	}
	s.found[address] = finding{tls, time.Now()}
}

func (s *secure) forget(address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.found, address)
}

// ask finds out whether a service of this machine speaks TLS.
func (s *secure) ask(ctx context.Context, address string) bool {
	if !local(address) {
		return false
	}
	s.mu.Lock()
	f := s.found[address]
	s.mu.Unlock()
	if time.Since(f.at) < askAgain {
		return f.tls
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	conn, err := dialTLS(ctx, &net.Dialer{}, address)
	if err == nil {
		conn.Close()
	}
	s.note(address, err == nil)
	return err == nil
}

// wantsTLS reports whether an answer is one by which servers refuse plain text: they close the
// connection, and say why in a line.
func wantsTLS(resp *http.Response) bool {
	if resp.StatusCode != http.StatusBadRequest || !resp.Close || resp.ContentLength > refusalLimit {
		return false
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, refusalLimit))
	resp.Body = &reread{Reader: io.MultiReader(bytes.NewReader(text), resp.Body), Closer: resp.Body}
	return err == nil && (bytes.Contains(text, []byte("HTTPS")) || bytes.Contains(text, []byte("SSL")) || bytes.Contains(text, []byte("TLS")))
}

const refusalLimit = 1 << 10 // bytes

// reread is a body whose beginning was read.
type reread struct {
	io.Reader
	io.Closer
}

// local reports whether an address is one of this machine's own. A name below localhost is not taken
// for one, as localname does for what browsers ask: here a resolver is asked, which may lead it anywhere.
func local(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback() || host == "localhost"
}

// dialTLS connects to a service that ends TLS itself. On this machine its certificate says
// nothing that matters, and is often one that nobody vouches for.
func dialTLS(ctx context.Context, d *net.Dialer, address string) (net.Conn, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{ServerName: host, NextProtos: []string{"http/1.1"}, InsecureSkipVerify: local(address)}
	if p := passingOf(ctx); p != nil && c.InsecureSkipVerify {
		if asked, err := route.Host(p.full.Host); err == nil { // it may have several
			c.ServerName = asked
		}
	}
	return (&tls.Dialer{NetDialer: d, Config: c}).DialContext(ctx, "tcp", address)
}

// overTLS sends a request to a service that ends TLS itself.
func (t *transport) overTLS(req *http.Request) (*http.Response, error) {
	again, u := *req, *req.URL
	u.Scheme = "https"
	again.URL = &u
	return t.Transport.RoundTrip(&again)
}
