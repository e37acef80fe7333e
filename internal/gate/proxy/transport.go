package proxy

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"
)

// transport sends requests without a body, which are most, on connections of its own: each is
// written and its answer read by the goroutine of the request, where http.Transport has two
// more for each connection. On small machines that doubles what the gate can pass on. All other
// requests go the general way.
type transport struct {
	general *http.Transport
	dialer  *net.Dialer
	secure  secure

	mu   sync.Mutex
	idle map[string][]*direct // by address, the latest used last
	// sweeping says that those that are idle for too long will be closed.
	sweeping bool
}

// The most idle connections to an address, and how long one may be idle: services close those
// that are idle for longer, few of them sooner.
const (
	mostIdle = 64
	idleFor  = 4 * time.Second
)

// headerLimit is how large the headers of an answer may be, in bytes.
const headerLimit = 1 << 20

// direct is a connection to a service.
type direct struct {
	net.Conn
	in   *bufio.Reader
	out  *bufio.Writer
	used time.Time
	// left is how much may still be read, while headers are read; -1: all.
	left int
}

var errHeaders = errors.New("the headers of the answer have exceeded their limit")

func (d *direct) Read(b []byte) (int, error) {
	if d.left < 0 {
		return d.Conn.Read(b)
	}
	if d.left == 0 {
		return 0, errHeaders
	}
	n, err := d.Conn.Read(b[:min(len(b), d.left)])
	d.left -= n
	return n, err
}

// RoundTrip sends a request, as http.RoundTripper.
func (t *transport) RoundTrip(req *http.Request) (*http.Response, error) {
	address := req.URL.Host
	if req.URL.Scheme == "http" && t.secure.has(address) {
		resp, err := t.overTLS(req)
		if err == nil || undialled(err) || req.Context().Err() != nil {
			return resp, err
		}
		t.secure.forget(address) // it may have been started anew without
		if !repeatable(req) {
			return nil, err
		}
	}
	resp, err := t.plainly(req)
	odd := err != nil && !undialled(err) || err == nil && wantsTLS(resp)
	if odd && req.URL.Scheme == "http" && req.Context().Err() == nil && t.secure.ask(req.Context(), address) && repeatable(req) {
		if err == nil {
			resp.Body.Close()
		}
		return t.overTLS(req)
	}
	return resp, err
}

// undialled reports whether there was no connection.
func undialled(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// repeatable reports whether a request may be sent twice (RFC 9110, section 9.2.2), and can be.
func repeatable(req *http.Request) bool {
	return (req.Body == nil || req.Body == http.NoBody) && (req.Method == http.MethodGet || req.Method == http.MethodHead || req.Method == http.MethodOptions)
}

// plainly sends a request as its address says.
func (t *transport) plainly(req *http.Request) (*http.Response, error) {
	if req.Body != nil && req.Body != http.NoBody || req.URL.Scheme != "http" || req.Header.Get("Expect") != "" || req.Method == http.MethodConnect {
		return t.general.RoundTrip(req)
	}
	for {
		d, reused, err := t.take(req.Context(), req.URL.Host)
		if err != nil {
			return nil, err
		}
		reached(req, func(p *passing) { p.connected = p.since() })
		resp, answered, err := t.exchange(d, req)
		if err == nil {
			return resp, nil
		}
		d.Close()
		if req.Context().Err() != nil {
			return nil, req.Context().Err()
		}
		// A connection that was closed meanwhile is no reason to fail.
		if !reused || answered || !repeatable(req) {
			return nil, err
		}
	}
}

func reached(req *http.Request, note func(*passing)) {
	if p, ok := req.Context().Value(passingKey{}).(*passing); ok {
		note(p)
	}
}

// take returns a connection, and whether it was used before.
func (t *transport) take(ctx context.Context, address string) (*direct, bool, error) {
	t.mu.Lock()
	for all := t.idle[address]; len(all) > 0; all = t.idle[address] {
		d := all[len(all)-1]
		t.idle[address] = all[:len(all)-1]
		if time.Since(d.used) < idleFor {
			t.mu.Unlock()
			return d, true, nil
		}
		for _, old := range all {
			old.Close()
		}
		delete(t.idle, address)
	}
	t.mu.Unlock()
	conn, err := t.dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, false, err
	}
	d := &direct{Conn: conn, left: -1}
	d.in, d.out = bufio.NewReaderSize(d, 4<<10), bufio.NewWriterSize(conn, 2<<10)
	return d, false, nil
}

func (t *transport) put(address string, d *direct) {
	d.used = time.Now()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.idle == nil {
		t.idle = map[string][]*direct{}
	}
	if len(t.idle[address]) >= mostIdle {
		d.Close()
		return
	}
	t.idle[address] = append(t.idle[address], d)
	if !t.sweeping {
		t.sweeping = true
		time.AfterFunc(idleFor, t.sweep)
	}
}

// sweep closes what has been idle for too long.
func (t *transport) sweep() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for address, all := range t.idle {
		n := 0
		for n < len(all) && time.Since(all[n].used) >= idleFor {
			all[n].Close()
			n++
		}
		if t.idle[address] = all[n:]; len(all) == n {
			delete(t.idle, address)
		}
	}
	if t.sweeping = len(t.idle) > 0; t.sweeping {
		time.AfterFunc(idleFor, t.sweep)
	}
}

// exchange sends a request on a connection and reads the beginning of the answer. Answered
// says that some of one came.
func (t *transport) exchange(d *direct, req *http.Request) (resp *http.Response, answered bool, err error) {
	stop := context.AfterFunc(req.Context(), func() { d.Close() })
	if err := req.Write(d.out); err != nil {
		stop()
		return nil, false, err
	}
	if err := d.out.Flush(); err != nil {
		stop()
		return nil, false, err
	}
	reached(req, func(p *passing) { p.written = p.since() })
	if _, err := d.in.Peek(1); err != nil {
		stop()
		return nil, false, err
	}
	reached(req, func(p *passing) { p.answered = p.since() })
	d.left = headerLimit
	for {
		resp, err = http.ReadResponse(d.in, req)
		if err != nil || resp.StatusCode >= 200 || resp.StatusCode == http.StatusSwitchingProtocols {
			break
		}
	}
	d.left = -1
	switching := err == nil && resp.StatusCode == http.StatusSwitchingProtocols
	if switching && req.Header.Get("Upgrade") == "" {
		err = errors.New("invalid answer: it switches protocols without being asked")
	}
	if err != nil {
		stop()
		return nil, true, err
	}
	if switching {
		if !stop() {
			return nil, true, req.Context().Err()
		}
		early, _ := d.in.Peek(d.in.Buffered())
		resp.Body = &switched{conn: d.Conn, early: early}
		return resp, true, nil
	}
	resp.Body = &directBody{ReadCloser: resp.Body, done: func(whole bool) {
		if !stop() { // the request's context has ended, and so has the connection
			return
		}
		if whole && !resp.Close && !req.Close && d.in.Buffered() == 0 {
			t.put(req.URL.Host, d)
		} else {
			d.Close()
		}
	}}
	return resp, true, nil
}

// directBody is the body of an answer, at whose end its connection is free again.
type directBody struct {
	io.ReadCloser
	done  func(whole bool)
	ended bool
	once  sync.Once
}

func (b *directBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF {
		b.ended = true
	}
	return n, err
}

// Close lets go of the connection. What is left of the body is not waited for.
func (b *directBody) Close() error {
	b.once.Do(func() { b.done(b.ended || b.ReadCloser == http.NoBody) })
	return nil
}
