// Package proxy passes requests on to the services that they are for, remembers them, and says
// what there is to say while a service can't answer.
package proxy

import (
	"context"
	"errors"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/record/traffic"
)

// Target is where a name leads.
type Target struct {
	Project string // its name
	Dir     string // its folder, which tells projects of the same name apart
	Service string // "" for an address that is no service's
	// URL is where the service listens; nil if that isn't known.
	URL *url.URL
	// Ready says that requests are passed on.
	Ready bool
	// Strip is what is taken from the beginning of paths, Prefix what stands for it.
	Strip string
	// KeepHost says that the service gets the Host header as it came.
	KeepHost bool
	// Private reports whether a path is for the user alone whose gate this is, as the inbox of mails
	// is; nil: none.
	Private func(path string) bool
	// Others says that who comes by it is on another machine.
	Others bool
	// HTTPSOnly sends requests by http on to https.
	HTTPSOnly bool
	// Story tells why it isn't ready; nil if nobody knows.
	Story func(context.Context) Story
}

// Story is what there is to say of a service that isn't ready.
type Story struct {
	State string   `json:"state"`
	Why   string   `json:"why"`
	Waits []string `json:"waits,omitempty"` // what it waits for, with their states
	Lines []string `json:"lines,omitempty"` // the latest of its log
}

// Gate is a handler for all requests. Its methods may be called at the same time.
type Gate struct {
	// Log remembers what passes.
	Log *traffic.Log
	// Ports are those that names are reached by.
	HTTPSPort, HTTPPort int

	table   atomic.Pointer[route.Table[*atomic.Pointer[Target]]]
	proxy   *httputil.ReverseProxy
	buffers sync.Pool
}

// New returns a gate that leads nowhere yet.
func New(remembers *traffic.Log, httpsPort, httpPort int, errors *slog.Logger) *Gate {
	g := &Gate{Log: remembers, HTTPSPort: httpsPort, HTTPPort: httpPort}
	g.buffers.New = func() any { b := make([]byte, 32<<10); return &b }
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	g.proxy = &httputil.ReverseProxy{
		Rewrite:        g.rewrite,
		ModifyResponse: g.answered,
		ErrorHandler:   g.failed,
		ErrorLog:       log.New(io.Discard, "", 0), // what goes wrong is in the traffic
		BufferPool:     g,
		Transport: &transport{Transport: &http.Transport{
			DialContext: dialer.DialContext,
			DialTLSContext: func(ctx context.Context, _, address string) (net.Conn, error) {
				return dialTLS(ctx, dialer, address)
			},
			DisableCompression: true, // what comes goes on as it is
			MaxIdleConns:       1000, MaxIdleConnsPerHost: 256, IdleConnTimeout: 30 * time.Second,
			MaxResponseHeaderBytes: headerLimit,
			ReadBufferSize:         4 << 10, WriteBufferSize: 4 << 10,
		}},
	}
	return g
}

// Get returns a buffer to copy with.
func (g *Gate) Get() []byte { return *g.buffers.Get().(*[]byte) }

// Put takes it back.
func (g *Gate) Put(b []byte) { g.buffers.Put(&b) }

// Use replaces the table of names.
func (g *Gate) Use(t *route.Table[*atomic.Pointer[Target]]) { g.table.Store(t) }

// passing is a request on its way.
type passing struct {
	target *Target
	full   *traffic.Full
	log    *traffic.Log
	w      http.ResponseWriter // nil once it is tunnelled
	began  time.Time
	sent   traffic.Counted
	// tunnelled says that its connections speak something else now, and end it.
	tunnelled bool
	done      sync.Once
	// When it had a connection, was written, and was answered, in microseconds since it
	// began; 0: not yet. They are told by the goroutines of the transport.
	connected, written, answered atomic.Int64
}

type passingKey struct{}

// passingOf returns the request that a context is of, nil if it is of none.
func passingOf(ctx context.Context) *passing {
	p, _ := ctx.Value(passingKey{}).(*passing)
	return p
}

type repeatKey struct{}

// repeat is a request that is made again.
type repeat struct {
	of string
	id int64
}

// Repeating returns a context for a request that is made again, of which the traffic says so.
func Repeating(ctx context.Context, of string) context.Context {
	return context.WithValue(ctx, repeatKey{}, &repeat{of: of})
}

// Repeated returns the number of the exchange that was made with the context, 0 if there was
// none.
func Repeated(ctx context.Context) int64 {
	r, _ := ctx.Value(repeatKey{}).(*repeat)
	if r == nil {
		return 0
	}
	return r.id
}

// reached notes that a request has come so far.
func (p *passing) reached(at *atomic.Int64) { at.Store(max(1, time.Since(p.began).Microseconds())) }

// times writes down how far it has come, and when.
func (p *passing) times(f *traffic.Full) {
	f.ConnectedMS, f.SentMS, f.AnsweredMS = float64(p.connected.Load())/1000, float64(p.written.Load())/1000, float64(p.answered.Load())/1000
}

// end completes what is remembered of it.
func (p *passing) end(change func(*traffic.Full)) {
	p.done.Do(func() {
		took := float64(time.Since(p.began).Microseconds()) / 1000
		p.log.End(p.full, func(f *traffic.Full) {
			f.TookMS = took
			p.times(f)
			if f.Upgrade == "" { // of what it became, the tunnel counts
				f.Sent, f.Request = p.sent.Taken()
			}
			if change != nil {
				change(f)
			}
		})
	})
}

// ServeHTTP passes a request on to where its name leads.
func (g *Gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, err := route.Host(r.Host)
	switch {
	case err != nil:
		refuse(w, http.StatusBadRequest, "This request names no host that can be one.")
		return
	case r.Method == http.MethodConnect:
		refuse(w, http.StatusMethodNotAllowed, "The gate leads to the services of projects, and is no proxy for other addresses.")
		return
	}
	table := g.table.Load()
	var found route.Route[*atomic.Pointer[Target]]
	ok := false
	if table != nil {
		found, ok = table.Find(host, r.URL.Path)
	}
	if !ok {
		g.nowhere(w, host, table)
		return
	}
	t := found.To.Load()
	if r.TLS == nil && t.HTTPSOnly {
		http.Redirect(w, r, g.https(host)+r.URL.RequestURI(), http.StatusTemporaryRedirect) // a permanent one would outlive the project in the browser
		return
	}
	g.Pass(w, r, t)
}

// SendOn sends a request that came by http on the port for https on to the same address by
// https.
func (g *Gate) SendOn(w http.ResponseWriter, r *http.Request) {
	host, err := route.Host(r.Host)
	if err != nil {
		refuse(w, http.StatusBadRequest, "This request names no host that can be one.")
		return
	}
	table := g.table.Load()
	if table != nil {
		if _, ok := table.Find(host, r.URL.Path); ok {
			http.Redirect(w, r, g.https(host)+r.URL.RequestURI(), http.StatusTemporaryRedirect)
			return
		}
	}
	g.nowhere(w, host, table)
}

// Pass passes a request on to a target, or says why that can't be done.
func (g *Gate) Pass(w http.ResponseWriter, r *http.Request, t *Target) {
	if r.Header.Get(waitingHeader) != "" { // the page that waits asks whether it may go on
		g.tell(w, r, t)
		return
	}
	if t.Private != nil && t.Private(strings.TrimPrefix(r.URL.Path, t.Strip)) && t.forOthers(r) {
		refuse(w, http.StatusForbidden, "This is for the user alone who runs it.")
		return
	}
	p := &passing{target: t, log: g.Log, w: w, began: time.Now()}
	p.full = describe(r, t)
	again, _ := r.Context().Value(repeatKey{}).(*repeat)
	if again != nil {
		p.full.Of = again.of
	}
	g.Log.Begin(p.full)
	if again != nil {
		again.id = p.full.ID
	}
	if r.Body != nil && r.Body != http.NoBody {
		p.sent.ReadCloser = r.Body
		r.Body = &p.sent
	}
	if !t.Ready || t.URL == nil {
		g.wait(w, r, p, "")
		return
	}
	ctx := context.WithValue(r.Context(), passingKey{}, p)
	defer func() {
		switch v := recover(); {
		case v == nil:
			if !p.tunnelled {
				p.end(nil)
			}
		case v == any(http.ErrAbortHandler): // the answer broke off, or whoever asked has gone
			why := "the answer broke off"
			if r.Context().Err() != nil {
				why = "who asked did not wait for the end"
			}
			p.end(func(f *traffic.Full) { f.Problem = why })
			panic(v)
		default:
			p.end(func(f *traffic.Full) { f.Problem = "the gate has a fault" })
			panic(v)
		}
	}()
	g.proxy.ServeHTTP(w, r.WithContext(ctx))
}

// describe returns what is known of a request when it comes.
func describe(r *http.Request, t *Target) *traffic.Full {
	f := &traffic.Full{RequestHeader: r.Header}
	f.Project, f.Service, f.Began = t.Dir, t.Service, time.Now()
	f.Method, f.Host, f.Path, f.Proto, f.Scheme = r.Method, r.Host, r.URL.RequestURI(), r.Proto, "http"
	if r.TLS != nil {
		f.Scheme = "https"
	}
	f.Trace = traffic.Trace(r.Header)
	if f.Trace == "" {
		f.Trace = traffic.NewTrace()
		r.Header.Set("X-Request-Id", f.Trace)
	}
	return f
}

// rewrite makes the request that the service gets.
func (g *Gate) rewrite(pr *httputil.ProxyRequest) {
	p := passingOf(pr.In.Context())
	t := p.target
	pr.Out.URL.Scheme, pr.Out.URL.Host = t.URL.Scheme, t.URL.Host
	if t.Strip != "" || t.URL.Path != "" {
		rest := strings.TrimPrefix(pr.In.URL.Path, t.Strip)
		base := strings.TrimSuffix(t.URL.Path, "/")
		if rest == "" && base == "" {
			rest = "/"
		}
		raw := strings.TrimPrefix(pr.In.URL.EscapedPath(), t.Strip)
		pr.Out.URL.Path = base + rest
		pr.Out.URL.RawPath = ""
		if raw != rest {
			pr.Out.URL.RawPath = base + raw
		}
		pr.Out.Header.Set("X-Forwarded-Prefix", t.Strip)
	}
	// What may be sent twice (RFC 9110, section 9.2.2) is, should the service close an idle
	// connection at that moment. The transport knows it by this header, which isn't sent
	// without a value.
	if pr.Out.ContentLength == 0 && (pr.Out.Method == http.MethodDelete || pr.Out.Method == http.MethodPut) {
		pr.Out.Header["X-Idempotency-Key"] = nil
	}
	// HTTP/2 is in front only. Servers that don't know this upgrade should go on without it
	// (RFC 9110, section 7.8), and some never answer.
	if strings.EqualFold(pr.Out.Header.Get("Upgrade"), "h2c") {
		pr.Out.Header.Del("Upgrade")
		pr.Out.Header.Del("Connection")
	}
	if t.KeepHost {
		pr.Out.Host = pr.In.Host
	} else {
		pr.Out.Host = t.URL.Host
	}
	pr.SetXForwarded()
	proto, port := "http", "80"
	if pr.In.TLS != nil {
		proto, port = "https", "443"
	}
	if _, own, err := net.SplitHostPort(pr.In.Host); err == nil {
		port = own
	}
	pr.Out.Header.Set("X-Forwarded-Port", port)
	pr.Out.Header.Set("Forwarded", forwarded(pr.In, proto))
}

// forwarded returns the header of RFC 7239, section 4, for a request.
func forwarded(r *http.Request, proto string) string {
	from := r.RemoteAddr
	if a, err := netip.ParseAddrPort(from); err == nil {
		from = a.Addr().String()
		if a.Addr().Is6() {
			from = `"[` + from + `]"`
		}
	}
	host := r.Host
	if strings.ContainsAny(host, ":[]") {
		host = strconv.Quote(host)
	}
	return "for=" + from + ";host=" + host + ";proto=" + proto
}

// answered looks at a service's answer as it passes.
func (g *Gate) answered(resp *http.Response) error {
	p := passingOf(resp.Request.Context())
	f := p.full
	if to := resp.Header.Get("Location"); missesTLS(to, resp.Request.Header) {
		resp.Header.Set("Location", "https"+strings.TrimPrefix(to, "http"))
	}
	g.Log.Amend(f, func(f *traffic.Full) {
		f.Status, f.Header = resp.StatusCode, resp.Header
		p.times(f)
		if resp.StatusCode == http.StatusSwitchingProtocols {
			f.Upgrade = strings.ToLower(resp.Header.Get("Upgrade"))
		}
	})
	if resp.StatusCode == http.StatusSwitchingProtocols {
		return g.tunnel(p, resp)
	}
	resp.Body = &answering{Counted: traffic.Counted{ReadCloser: resp.Body}, p: p}
	return nil
}

// missesTLS reports whether a redirect leads to where its request has come to, but for TLS, as those
// of servers do that look at their own listener alone. Nothing answers plain HTTP on that port.
func missesTLS(location string, request http.Header) bool {
	host := request.Get("X-Forwarded-Host")
	rest, plain := strings.CutPrefix(location, "http://"+host)
	return plain && strings.Contains(host, ":") && request.Get("X-Forwarded-Proto") == "https" && (rest == "" || strings.ContainsAny(rest[:1], "/?#"))
}

// answering is the body of an answer, of which a part is kept.
type answering struct {
	traffic.Counted
	p *passing
}

func (a *answering) Close() error {
	err := a.ReadCloser.Close()
	size, body := a.Taken()
	a.p.log.Amend(a.p.full, func(f *traffic.Full) { f.Received, f.Response = size, body })
	return err
}

// failed says why a service did not answer.
func (g *Gate) failed(w http.ResponseWriter, r *http.Request, err error) {
	p := passingOf(r.Context())
	switch {
	case errors.Is(err, errTunnelled):
	case r.Context().Err() != nil:
		p.end(func(f *traffic.Full) { f.Problem = "who asked did not wait for the answer" })
	case undialled(err):
		g.wait(w, r, p, "nothing listens at "+p.target.URL.Host)
	default:
		g.garbled(w, r, p, err)
	}
}

func (g *Gate) https(host string) string {
	if g.HTTPSPort != 443 {
		host = net.JoinHostPort(host, strconv.Itoa(g.HTTPSPort))
	}
	return "https://" + host
}
