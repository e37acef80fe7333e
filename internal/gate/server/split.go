package server

import (
	"errors"
	"net"
	"sync"
	"time"
)

// handshake is the first byte of a connection that begins TLS (RFC 8446, section 5.1).
const handshake = 22

// split parts the connections of a listener by how they begin, so that who asks by http on the
// port for https can be sent on. Closing either of the two closes the listener, and both.
func split(l net.Listener) (secure, plain net.Listener) {
	s := &splitter{Listener: l, over: make(chan struct{})}
	a, b := &half{splitter: s, conns: make(chan net.Conn)}, &half{splitter: s, conns: make(chan net.Conn)}
	go s.accept(a, b)
	return a, b
}

// splitter accepts the connections for two halves.
type splitter struct {
	net.Listener
	over chan struct{}
	once sync.Once
	err  error // why it is over; nil if it was closed
}

func (s *splitter) end(err error) {
	s.once.Do(func() {
		s.err = err
		close(s.over)
	})
}

func (s *splitter) accept(secure, plain *half) {
	pause := time.Duration(0)
	for {
		c, err := s.Listener.Accept()
		var passing interface{ Temporary() bool }
		switch {
		case err == nil:
			pause = 0
			go s.begin(c, secure, plain)
		case errors.As(err, &passing) && passing.Temporary(): // too many files, as in net/http
			pause = min(max(2*pause, 5*time.Millisecond), time.Second)
			select {
			case <-time.After(pause):
			case <-s.over:
				return
			}
		default:
			s.end(err)
			return
		}
	}
}

// begin waits for the first byte of a connection, and hands it to its half.
func (s *splitter) begin(c net.Conn, secure, plain *half) {
	b := &begun{Conn: c}
	_ = c.SetReadDeadline(time.Now().Add(headerTime))
	if n, _ := c.Read(b.first[:]); n == 0 {
		c.Close()
		return
	}
	_ = c.SetReadDeadline(time.Time{})
	to := plain
	if b.first[0] == handshake {
		to = secure
	}
	select {
	case to.conns <- b:
	case <-s.over:
		c.Close()
	}
}

// half is a listener for those connections that begin in one way.
type half struct {
	*splitter
	conns chan net.Conn
}

func (h *half) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.over:
		if h.err != nil {
			return nil, h.err
		}
		return nil, net.ErrClosed
	}
}

func (h *half) Close() error {
	h.end(nil)
	if err := h.Listener.Close(); !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil // the other half was closed before
}

// begun is a connection whose first byte was read.
type begun struct {
	net.Conn
	first [1]byte
	read  bool
}

func (b *begun) Read(p []byte) (int, error) {
	if b.read || len(p) == 0 {
		return b.Conn.Read(p)
	}
	b.read = true
	return copy(p, b.first[:]), nil
}
