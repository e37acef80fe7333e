package declare

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Edits work on the text of a declaration: what they don't change stays as it
// is, byte for byte. The result is to be parsed before it is kept.

// entry is a key with a value, or a table's header, where it stands in the
// text; the offsets are in bytes.
type entry struct {
	path   []string // its whole key
	table  bool
	prefix int // how many parts of the path come from the header above it
	inline bool
	// start is where the key begins, value where the value does, and end the
	// first byte after it; a header's value is its end.
	start, value, end int
}

func (e entry) under(path []string) bool {
	return len(e.path) >= len(path) && slices.Equal(e.path[:len(path)], path)
}

// entries lists what is in a text, in its order; the entries of an inline
// table come after the table itself.
func entries(src []byte) ([]entry, error) {
	if _, syntax := parseTree(src, FileName); syntax != nil {
		return nil, fmt.Errorf("%s: this is not TOML: %s", syntax.at, syntax.message)
	}
	var out []entry
	var p unstable.Parser
	p.Reset(src)
	var header []string
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind == unstable.KeyValue {
			out = addEntries(out, src, header, e, false)
			continue
		}
		path, start, end := keyOf(e, nil)
		header = path
		end += bytes.IndexByte(src[end:], ']') + 1
		for end < len(src) && src[end] == ']' { // a table of a list
			end++
		}
		out = append(out, entry{path: path, table: true, start: start, value: end, end: end})
	}
	return out, nil
}

// keyOf returns an expression's key, after a prefix, and where it begins and ends.
func keyOf(e *unstable.Node, prefix []string) (path []string, start, end int) {
	path, start = slices.Clone(prefix), -1
	for it := e.Key(); it.Next(); {
		k := it.Node()
		path = append(path, string(k.Data))
		if start < 0 {
			start = int(k.Raw.Offset)
		}
		end = int(k.Raw.Offset + k.Raw.Length)
	}
	return path, start, end
}

func addEntries(out []entry, src []byte, header []string, e *unstable.Node, inline bool) []entry {
	path, start, end := keyOf(e, header)
	value := end + bytes.IndexByte(src[end:], '=') + 1
	for src[value] == ' ' || src[value] == '\t' {
		value++
	}
	out = append(out, entry{path: path, prefix: len(header), inline: inline, start: start, value: value, end: valueEnd(src, value)})
	if v := e.Value(); v.Kind == unstable.InlineTable {
		for it := v.Children(); it.Next(); {
			out = addEntries(out, src, path, it.Node(), true)
		}
	}
	return out
}

// valueEnd finds the end of a value of a correct text.
func valueEnd(src []byte, at int) int {
	depth := 0
	for i := at; i < len(src); i++ {
		switch c := src[i]; c {
		case '"', '\'':
			quote := string(c)
			if bytes.HasPrefix(src[i:], []byte(strings.Repeat(quote, 3))) {
				quote = strings.Repeat(quote, 3)
			}
			i += len(quote)
			for !bytes.HasPrefix(src[i:], []byte(quote)) {
				if src[i] == '\\' && c == '"' {
					i++
				}
				i++
			}
			i += len(quote)
			for len(quote) == 3 && i < len(src) && src[i] == c { // the text's own quotes at its end
				i++
			}
			if depth == 0 {
				return i
			}
			i--
		case '[', '{':
			depth++
		case ']', '}':
			if depth--; depth == 0 {
				return i + 1
			} else if depth < 0 {
				return len(bytes.TrimRight(src[:i], " \t"))
			}
		case '#', '\n', '\r', ',':
			if depth == 0 {
				return len(bytes.TrimRight(src[:i], " \t"))
			}
			if c == '#' {
				i += bytes.IndexByte(src[i:], '\n')
			}
		}
	}
	return len(src)
}

func replace(src []byte, from, to int, text string) []byte {
	return slices.Concat(src[:from], []byte(text), src[to:])
}

// lineOf returns the line that a byte is on: where it begins, and where the next
// one does.
func lineOf(src []byte, at int) (begin, next int) {
	begin = bytes.LastIndexByte(src[:at], '\n') + 1
	if n := bytes.IndexByte(src[at:], '\n'); n >= 0 {
		return begin, at + n + 1
	}
	return begin, len(src)
}

// SetKey sets a key of a declared service to a value, written as TOML has it.
func SetKey(src []byte, service, key, value string) ([]byte, error) {
	all, err := entries(src)
	if err != nil {
		return nil, err
	}
	owner := []string{"service", service}
	path := append(slices.Clone(owner), key)
	// What is there is replaced.
	for _, e := range all {
		if !e.table && slices.Equal(e.path, path) {
			return replace(src, e.value, e.end, value), nil
		}
	}
	if i := slices.IndexFunc(all, func(e entry) bool { return !e.table && slices.Equal(e.path, owner) }); i >= 0 {
		return addInline(src, all[i], all[i+1:], key, value)
	}
	// Otherwise it comes after the keys that say what the service is.
	best, rank := entry{}, -1
	for _, e := range all {
		own := e.table && len(e.path) == len(owner) || !e.table && !e.inline && e.prefix <= len(owner)
		if !own || !e.under(owner) {
			continue
		}
		if r := slices.Index([]string{"run", "kind", "version"}, e.path[len(e.path)-1]) + 1; len(e.path) == len(path) && !e.table && r >= rank {
			best, rank = e, r
		} else if rank <= 0 {
			best, rank = e, 0
		}
	}
	if rank < 0 {
		return nil, fmt.Errorf("the declaration has no service %q that could be changed", service)
	}
	begin, _ := lineOf(src, best.start)
	_, next := lineOf(src, best.end)
	line := src[begin:best.start]
	name := string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))]) + key
	if !best.table && best.prefix < len(owner) { // a dotted key: "api.port"
		name = strings.Join(append(slices.Clone(owner[best.prefix:]), key), ".")
	}
	text := name + " = " + value + "\n"
	if next == len(src) && !bytes.HasSuffix(src, []byte("\n")) {
		text = "\n" + text
	}
	return replace(src, next, next, text), nil
}

// addInline adds a key to an inline table.
func addInline(src []byte, table entry, after []entry, key, value string) ([]byte, error) {
	if src[table.value] != '{' {
		return nil, fmt.Errorf("%s is no table", strings.Join(table.path, "."))
	}
	at, separator := table.value+1, " "
	for _, e := range after {
		if e.inline && e.under(table.path) && e.prefix == len(table.path) && e.end <= table.end {
			at, separator = e.end, ", "
		}
	}
	text := separator + key + " = " + value
	if separator == " " {
		text += " "
		at = table.end - 1
		src = replace(src, table.value+1, at, "")
		at = table.value + 1
	}
	return replace(src, at, at, text), nil
}

// UnsetKey removes a key of a service, with the rest of its line. A key that
// isn't there is no error.
func UnsetKey(src []byte, service, key string) ([]byte, error) {
	all, err := entries(src)
	if err != nil {
		return nil, err
	}
	path := []string{"service", service, key}
	for _, e := range all {
		if e.table || !slices.Equal(e.path, path) {
			continue
		}
		if !e.inline {
			begin, _ := lineOf(src, e.start)
			_, next := lineOf(src, e.end)
			return replace(src, begin, next, ""), nil
		}
		// With the comma after it, or that before it.
		from, to := e.start, e.end
		rest := bytes.TrimLeft(src[to:], " \t")
		if len(rest) > 0 && rest[0] == ',' {
			to = len(src) - len(bytes.TrimLeft(rest[1:], " \t"))
		} else if before := bytes.TrimRight(src[:from], " \t"); len(before) > 0 && before[len(before)-1] == ',' {
			from = len(before) - 1
		}
		return replace(src, from, to, ""), nil
	}
	return src, nil
}

// HasService reports whether a text declares something of a service.
func HasService(src []byte, name string) bool {
	all, err := entries(src)
	return err == nil && slices.ContainsFunc(all, func(e entry) bool { return e.under([]string{"service", name}) })
}

// AddService adds a service with these lines at the end.
func AddService(src []byte, name string, lines ...string) []byte {
	text := string(src)
	if text != "" {
		text = strings.TrimRight(text, "\n") + "\n\n"
	}
	text += "[service." + name + "]\n"
	for _, l := range lines {
		text += l + "\n"
	}
	return []byte(text)
}

// RemoveService removes a service with its tables, and the comments that
// stand directly above these.
func RemoveService(src []byte, name string) ([]byte, error) {
	all, err := entries(src)
	if err != nil {
		return nil, err
	}
	owner := []string{"service", name}
	type span struct{ from, to int }
	var spans []span
	before := -1 // the entry that the last span ends with
	for i, e := range all {
		if !e.under(owner) {
			continue
		}
		if e.inline {
			if before < 0 { // all services are in one inline table
				return nil, fmt.Errorf("service.%s is part of an inline table; remove it by hand", name)
			}
			before = i
			continue
		}
		begin, _ := lineOf(src, e.start)
		_, next := lineOf(src, e.end)
		if before >= 0 && before == i-1 {
			spans[len(spans)-1].to = next
		} else {
			if e.table {
				least := 0 // what looks like a comment may be a text's
				if i > 0 {
					_, least = lineOf(src, all[i-1].end)
				}
				begin = aboveComments(src, begin, least)
			}
			spans = append(spans, span{begin, next})
		}
		before = i
	}
	if len(spans) == 0 {
		return nil, fmt.Errorf("the declaration has no service %q", name)
	}
	for _, s := range slices.Backward(spans) {
		// The blank lines around it become one.
		rest := bytes.TrimLeft(src[s.to:], "\n")
		if before := bytes.TrimRight(src[:s.from], "\n"); len(before) > 0 && len(rest) < len(src)-s.to {
			src = slices.Concat(before, []byte("\n\n"), rest)
			if len(rest) == 0 {
				src = slices.Concat(before, []byte("\n"))
			}
			continue
		}
		src = slices.Concat(src[:s.from], src[s.to:])
	}
	if t := bytes.TrimRight(src, "\n"); len(t) < len(src) {
		src = slices.Concat(t, []byte("\n"))
	}
	return src, nil
}

// aboveComments returns where the comment lines directly above a line begin, not
// before least.
func aboveComments(src []byte, begin, least int) int {
	for begin > least {
		above, _ := lineOf(src, begin-1)
		if !bytes.HasPrefix(bytes.TrimLeft(src[above:begin], " \t"), []byte("#")) {
			break
		}
		begin = above
	}
	return begin
}
