package proxy

import (
	"errors"
	"net"
	"net/http"
	"net/http/httptrace"
)

// transport sends requests to services, over TLS to those that speak it.
type transport struct {
	*http.Transport
	secure secure
}

// headerLimit is how large the headers of an answer may be, in bytes.
const headerLimit = 1 << 20

// RoundTrip sends a request, as http.RoundTripper.
func (t *transport) RoundTrip(req *http.Request) (*http.Response, error) {
	address := req.URL.Host
	// The ReverseProxy has made a trace for this request alone; a second one would have to be
	// composed with it by reflection, for each request.
	if trace, p := httptrace.ContextClientTrace(req.Context()), passingOf(req.Context()); trace != nil && p != nil {
		trace.GotConn = func(httptrace.GotConnInfo) { p.reached(&p.connected) }
		trace.WroteRequest = func(httptrace.WroteRequestInfo) { p.reached(&p.written) }
		trace.GotFirstResponseByte = func() { p.reached(&p.answered) }
	}
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
	resp, err := t.Transport.RoundTrip(req)
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
