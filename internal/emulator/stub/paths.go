package stub

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"

	"neighbour/internal/core/machine/lazyregexp"
)

// paths leads from methods and paths to what answers them. A part that is written out goes
// before one that is left open.
type paths[T any] struct {
	literal map[string]*paths[T]
	open    []*openPart[T]
	// to is by the method.
	to map[string]*found[T]
}

// openPart is a part of a path with what is left open in it: "{id}.json".
type openPart[T any] struct {
	text    string
	pattern *regexp.Regexp
	next    *paths[T]
}

type found[T any] struct {
	to    T
	names []string // of what is left open, in its order
}

var braces = lazyregexp.New(`\{([^{}]*)\}`)

// add adds a path; false if there is one already that means the same.
func (p *paths[T]) add(method, path string, to T) bool {
	var names []string
	at := p
	for part := range strings.SplitSeq(strings.TrimPrefix(path, "/"), "/") {
		for _, m := range braces.FindAllStringSubmatch(part, -1) {
			names = append(names, m[1])
		}
		at = at.child(part)
	}
	if at.to == nil {
		at.to = map[string]*found[T]{}
	}
	if at.to[method] != nil {
		return false
	}
	at.to[method] = &found[T]{to, names}
	return true
}

func (p *paths[T]) child(part string) *paths[T] {
	if !braces.MatchString(part) {
		if p.literal == nil {
			p.literal = map[string]*paths[T]{}
		}
		if p.literal[part] == nil {
			p.literal[part] = &paths[T]{}
		}
		return p.literal[part]
	}
	// What the parts are called doesn't tell paths apart.
	text := braces.ReplaceAllString(part, "{}")
	for _, o := range p.open {
		if o.text == text {
			return o.next
		}
	}
	var b strings.Builder
	for i, literal := range strings.Split(strings.ToValidUTF8(text, "\uFFFD"), "{}") {
		if i > 0 {
			b.WriteString("(.+)")
		}
		b.WriteString(regexp.QuoteMeta(literal))
	}
	o := &openPart[T]{text, regexp.MustCompile("^" + b.String() + "$"), &paths[T]{}}
	p.open = append(p.open, o)
	return o.next
}

// find finds what answers a path as it is written in a request. Methods are those that are
// answered if this one isn't.
func (p *paths[T]) find(method, path string) (to T, params map[string]string, methods []string, ok bool) {
	methods, ok = p.visit(method, path, func(found T, with map[string]string) bool {
		to, params = found, with
		return true
	})
	return to, params, methods, ok
}

// visit tries what may answer a path, what is written out first, until one takes it.
func (p *paths[T]) visit(method, path string, take func(T, map[string]string) bool) (methods []string, ok bool) {
	parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
	var values []string
	var walk func(at *paths[T], parts []string) bool
	walk = func(at *paths[T], parts []string) bool {
		if len(parts) == 0 {
			if f := at.to[method]; f != nil {
				params := map[string]string{}
				for i, name := range f.names {
					params[name] = values[i]
				}
				return take(f.to, params)
			}
			for m := range at.to {
				methods = append(methods, m)
			}
			return false
		}
		text, err := url.PathUnescape(parts[0])
		if err != nil {
			text = parts[0]
		}
		if next := at.literal[text]; next != nil {
			if walk(next, parts[1:]) {
				return true
			}
		}
		for _, o := range at.open {
			m := o.pattern.FindStringSubmatch(text)
			if m == nil {
				continue
			}
			before := len(values)
			values = append(values, m[1:]...)
			if walk(o.next, parts[1:]) {
				return true
			}
			values = values[:before]
		}
		return false
	}
	ok = walk(p, parts)
	return methods, ok
}

// CheckOn says what is wrong with a route's method and path.
func CheckOn(on string) error {
	method, path, ok := strings.Cut(strings.TrimSpace(on), " ")
	if !ok || method == "" || method != strings.ToUpper(method) || !strings.HasPrefix(path, "/") {
		return fmt.Errorf("%q is no method with a path", on)
	}
	if rest := braces.ReplaceAllString(path, ""); strings.ContainsAny(rest, "{}?#") || !utf8.ValidString(path) {
		return fmt.Errorf("%q can't be a path", path)
	}
	return nil
}
