package proxy

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"

	"neighbour/internal/core/record/traffic"
)

// errTunnelled ends the way of a request through the ReverseProxy: its connections speak
// something else from now on, and are nobody else's any more.
var errTunnelled = errors.New("the connection has become a tunnel")

// switched is the body of an answer that switches protocols: the connection to the service,
// which the ReverseProxy doesn't close once the tunnel has it.
type switched struct {
	io.ReadWriteCloser
	taken bool
}

func (s *switched) Close() error {
	if s.taken {
		return nil
	}
	return s.ReadWriteCloser.Close()
}

// tunnel joins the connections of a request whose service switches protocols (RFC 9110,
// section 7.8). It returns at once, so that the goroutine and the buffers of the request go:
// most such connections are idle, and there can be thousands.
func (g *Gate) tunnel(p *passing, resp *http.Response) error {
	service, ok := resp.Body.(io.ReadWriteCloser)
	asked, got := p.full.RequestHeader.Get("Upgrade"), resp.Header.Get("Upgrade")
	if !ok || !strings.EqualFold(asked, got) {
		return fmt.Errorf("invalid answer: it switches to %q, asked for was %q", got, asked)
	}
	client, rw, err := http.NewResponseController(p.w).Hijack()
	if err != nil {
		return fmt.Errorf("the connection can't be switched: %w", err)
	}
	resp.Body = &switched{service, true}
	p.tunnelled = true
	p.w = nil // it would keep the buffers of the connection
	t := &tunnel{p: p, client: client, service: service}
	// What came before the client was read from.
	sent, _ := rw.Reader.Peek(rw.Reader.Buffered())
	t.sent.Add(int64(len(sent)))
	var head bytes.Buffer
	fmt.Fprintf(&head, "HTTP/1.1 %d %s\r\n", resp.StatusCode, http.StatusText(resp.StatusCode))
	_ = resp.Header.Write(&head)
	head.WriteString("\r\n")
	_, err1 := client.Write(head.Bytes())
	_, err2 := service.Write(sent)
	if errors.Join(err1, err2) != nil {
		t.close()
		t.end()
		return errTunnelled
	}
	var both sync.WaitGroup
	both.Add(1)
	go func() {
		defer both.Done()
		t.pass(service, client, &t.sent)
	}()
	go func() {
		t.pass(client, service, &t.received)
		both.Wait()
		t.close()
		t.end()
	}()
	return errTunnelled
}

// tunnel is two connections of which each gets what the other sends.
type tunnel struct {
	p               *passing
	client, service io.ReadWriteCloser
	sent, received  atomic.Int64
}

func (t *tunnel) close() {
	t.client.Close()
	t.service.Close()
}

func (t *tunnel) end() { t.p.end(func(f *traffic.Full) { t.count(f) }) }

func (t *tunnel) count(f *traffic.Full) { f.Sent, f.Received = t.sent.Load(), t.received.Load() }

// A copy begins with a small buffer, and has a larger one once that is filled.
const (
	idleBuffer = 512
	busyBuffer = 32 << 10
)

// pass copies from one connection to the other. At the end of what one sends the other learns
// of it, and may still send; after an error both are closed.
func (t *tunnel) pass(to, from io.ReadWriter, count *atomic.Int64) {
	buf := make([]byte, idleBuffer)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			if _, err := to.Write(buf[:n]); err != nil {
				t.close()
				return
			}
			count.Add(int64(n))
			t.p.log.Amend(t.p.full, t.count)
		}
		switch {
		case err == io.EOF:
			if half, ok := to.(interface{ CloseWrite() error }); !ok || half.CloseWrite() != nil {
				t.close()
			}
			return
		case err != nil:
			t.close()
			return
		}
		if n == len(buf) && n < busyBuffer {
			buf = make([]byte, busyBuffer)
		}
	}
}
