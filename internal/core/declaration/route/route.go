// Package route finds where a request goes by the name and the path that it asks for.
package route

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// Pattern is a name, and the beginning of the paths below it: "toolshed.localhost",
// "*.toolshed.localhost", "toolshed.localhost/mail".
type Pattern struct {
	// Host is the name in ASCII and lower case, without the star.
	Host string
	// Below says that the pattern means all names below the host, however deep, as in the
	// DNS (RFC 4592), but not the host itself.
	Below bool
	// Path begins with a slash and ends with none; "" means all paths.
	Path string
}

// Parse reads a pattern. Its error says what is wrong with it.
func Parse(text string) (Pattern, error) {
	name, path, _ := strings.Cut(text, "/")
	var p Pattern
	name, p.Below = strings.CutPrefix(name, "*.")
	if strings.Contains(name, "*") {
		return p, errors.New(`a star stands for all that is before a name: "*.toolshed.localhost"`)
	}
	if strings.Contains(name, ":") {
		return p, errors.New("a name is without a scheme and a port")
	}
	host, err := Host(name)
	if err != nil {
		return p, err
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return p, fmt.Errorf("%s is an address and no name", host)
	}
	p.Host = host
	if path = strings.TrimRight(path, "/"); path == "" {
		return p, nil
	}
	p.Path = "/" + path
	for part := range strings.SplitSeq(path, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsAny(part, "?#%\\ \t\r\n\x00*") {
			return p, fmt.Errorf("%q is no path: write for example /mail, which means what is below it, too", p.Path)
		}
	}
	return p, nil
}

// String returns the pattern as it is written.
func (p Pattern) String() string {
	if p.Below {
		return "*." + p.Host + p.Path
	}
	return p.Host + p.Path
}

// has reports whether the pattern means a name and a path.
func (p Pattern) has(host, path string) bool {
	if p.Below {
		if !strings.HasSuffix(host, "."+p.Host) {
			return false
		}
	} else if host != p.Host {
		return false
	}
	return p.Path == "" || path == p.Path || strings.HasPrefix(path, p.Path+"/")
}

// before reports whether the pattern goes before another that means the same request: a name
// before those below one, the longer of these, and then the longer path.
func (p Pattern) before(q Pattern) int {
	switch {
	case p.Below != q.Below:
		if q.Below {
			return -1
		}
		return 1
	case len(p.Host) != len(q.Host):
		return len(q.Host) - len(p.Host)
	}
	return len(q.Path) - len(p.Path)
}

// Host returns the value of a Host header, or of a URL's authority (RFC 9110, section 7.2),
// as names are compared: without a port and the root's dot, in lower case and in ASCII (RFC
// 5891). It fails for what is no host.
func Host(value string) (string, error) {
	host := value
	if strings.HasPrefix(value, "[") || strings.Count(value, ":") == 1 {
		name, port, err := net.SplitHostPort(value)
		switch {
		case err == nil && !isPort(port):
			return "", fmt.Errorf("%q has no port", value)
		case err == nil:
			host = name
		case strings.HasPrefix(value, "[") && strings.HasSuffix(value, "]"):
			host = value[1 : len(value)-1]
		default:
			return "", fmt.Errorf("%q is no host", value)
		}
	}
	if a, err := netip.ParseAddr(host); err == nil {
		return a.Unmap().WithZone("").String(), nil
	}
	if len(host) > 1024 { // which takes long to be read
		return "", errors.New("the name of a host is too long")
	}
	ascii, err := names.ToASCII(strings.TrimSuffix(host, "."))
	if err != nil || len(ascii) > 253 || !utf8.ValidString(host) {
		return "", fmt.Errorf("%q is no name of a host", value)
	}
	for label := range strings.SplitSeq(ascii, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' || strings.ContainsFunc(label, isNoLetter) {
			return "", fmt.Errorf("%q is no name of a host", value)
		}
	}
	return ascii, nil
}

// names are as the browsers read them, which take an underscore.
var names = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.Transitional(false), idna.StrictDomainName(false))

func isNoLetter(c rune) bool {
	return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' && c != '_'
}

func isPort(text string) bool {
	if len(text) > 5 {
		return false
	}
	return !strings.ContainsFunc(text, func(c rune) bool { return c < '0' || c > '9' })
}

// Table says where requests go. The zero value has no routes. It is not changed once it is
// used, so that its methods may be called at the same time.
type Table[To any] struct {
	exact map[string][]Route[To] // by host, those of longer paths first
	below map[string][]Route[To] // by the host that they are below
}

// Route is a pattern and where it leads.
type Route[To any] struct {
	Pattern Pattern
	To      To
}

// TakenError says that a pattern is there already.
type TakenError[To any] struct {
	Pattern Pattern
	// By is where it leads.
	By To
}

func (e *TakenError[To]) Error() string { return e.Pattern.String() + " leads elsewhere already" }

// Add adds a route. Its error is a *TakenError if the same pattern leads elsewhere, which
// goes on to do so.
func (t *Table[To]) Add(p Pattern, to To) error {
	if t.exact == nil {
		t.exact, t.below = map[string][]Route[To]{}, map[string][]Route[To]{}
	}
	in := t.exact
	if p.Below {
		in = t.below
	}
	at, found := slices.BinarySearchFunc(in[p.Host], p, func(r Route[To], p Pattern) int {
		if n := r.Pattern.before(p); n != 0 {
			return n
		}
		return strings.Compare(r.Pattern.Path, p.Path)
	})
	if found {
		return &TakenError[To]{p, in[p.Host][at].To}
	}
	in[p.Host] = slices.Insert(in[p.Host], at, Route[To]{p, to})
	return nil
}

// Find returns the route of the longest pattern that means a name, as Host returns it, and a
// path.
func (t *Table[To]) Find(host, path string) (Route[To], bool) {
	for _, r := range t.exact[host] {
		if r.Pattern.has(host, path) {
			return r, true
		}
	}
	for name := host; ; {
		_, parent, ok := strings.Cut(name, ".")
		if !ok {
			return Route[To]{}, false
		}
		for _, r := range t.below[parent] {
			if r.Pattern.has(host, path) {
				return r, true
			}
		}
		name = parent
	}
}

// All returns the routes, in no order.
func (t *Table[To]) All() []Route[To] {
	var out []Route[To]
	for _, in := range []map[string][]Route[To]{t.exact, t.below} {
		for _, routes := range in {
			out = append(out, routes...)
		}
	}
	return out
}

// Knows reports whether any path of a name leads somewhere.
func (t *Table[To]) Knows(host string) bool {
	if len(t.exact[host]) > 0 {
		return true
	}
	for name := host; ; {
		_, parent, ok := strings.Cut(name, ".")
		if !ok {
			return false
		}
		if len(t.below[parent]) > 0 {
			return true
		}
		name = parent
	}
}
