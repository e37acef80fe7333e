// Package localname knows the names of this machine, so that servers on it can
// refuse requests that reached them by another: a page from elsewhere whose
// name leads here for a moment (DNS rebinding) must not read what they serve.
package localname

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// Is reports whether the value of a Host header (RFC 9110, section 7.2), with
// or without a port, is a name or address of the loopback interface, or one of
// more. Names below localhost are this machine's (RFC 6761, section 6.3).
func Is(host string, more ...string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	if address, err := netip.ParseAddr(host); err == nil {
		return address.Unmap().IsLoopback() || slices.Contains(more, host)
	}
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || slices.Contains(more, host)
}

// reserved are the domains of which no server of the web has a name: RFC 6761 (localhost, test,
// example, invalid), RFC 6762 (local), RFC 8375 (home.arpa), ICANN's resolution 2024.07.29.06
// (internal).
var reserved = []string{"localhost", "test", "example", "invalid", "local", "home.arpa", "internal"}

// Public reports whether a host's name, in lower case, may be that of a server of the web.
func Public(host string) bool {
	if _, err := netip.ParseAddr(host); err == nil || !strings.Contains(host, ".") {
		return false
	}
	return !slices.ContainsFunc(reserved, func(d string) bool { return strings.HasSuffix(host, "."+d) || host == d })
}

// Foreign reports whether a request comes from a page of another site, by what the browser says of
// it (Fetch standard, section 3.2; Fetch Metadata Request Headers): a browser sends many without
// asking, and only the answer is kept from the page. Pages of this machine, and of more names, are
// no others; who follows a link of one is a person.
func Foreign(r *http.Request, more ...string) bool {
	local := func(address string) bool {
		u, err := url.Parse(address)
		return err == nil && Is(u.Host, more...)
	}
	if origin := r.Header.Get("Origin"); origin != "" {
		return !local(origin)
	}
	read := r.Method == http.MethodGet || r.Method == http.MethodHead
	if r.Header.Get("Sec-Fetch-Site") != "cross-site" || read && r.Header.Get("Sec-Fetch-Mode") == "navigate" {
		return false
	}
	return !local(r.Header.Get("Referer"))
}
