package declare

import (
	"errors"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// node is a value of the file together with where it stands, so that an
// error about it can point at it.
type node struct {
	kind   nodeKind
	keyAt  Position // where its key starts; for an array's element, the value
	at     Position // where its value starts
	width  int      // of the value in characters, on its first line
	keyLen int
	// skipped says that a text of several lines begins on the line after at.
	skipped bool

	table map[string]*node
	order []string // the table's keys as they come in the file
	items []*node
	value any // string, int64, float64 or bool
}

type nodeKind int

const (
	tableNode nodeKind = iota
	arrayNode
	stringNode
	integerNode
	otherNode // floats, dates and times
	boolNode
)

func (k nodeKind) String() string {
	return [...]string{"a table", "a list", "a text", "a whole number", "a number or date", "true or false"}[k]
}

// parseTree reads TOML 1.0. A syntax error comes back as the second value;
// there is at most one, since nothing after it can be trusted.
func parseTree(src []byte, file string) (*node, *syntaxError) {
	// The decoder checks what the low-level parser leaves to it: keys given
	// twice, tables defined twice, numbers out of range.
	var discard map[string]any
	if err := toml.Unmarshal(src, &discard); err != nil {
		var de *toml.DecodeError
		if errors.As(err, &de) {
			row, col := de.Position()
			return nil, &syntaxError{Position{file, row, col}, cleanMessage(de.Error())}
		}
		return nil, &syntaxError{Position{file, 1, 1}, cleanMessage(err.Error())}
	}
	p := &treeParser{src: src, file: file, root: &node{kind: tableNode, table: map[string]*node{}}}
	p.starts = []int{0}
	for i, c := range src {
		if c == '\n' {
			p.starts = append(p.starts, i+1)
		}
	}
	p.parser.Reset(src)
	current := p.root
	for p.parser.NextExpression() {
		e := p.parser.Expression()
		switch e.Kind {
		case unstable.Table:
			current = p.descend(p.root, e.Key(), false)
		case unstable.ArrayTable:
			current = p.descend(p.root, e.Key(), true)
		case unstable.KeyValue:
			p.assign(current, e)
		}
	}
	return p.root, nil
}

type syntaxError struct {
	at      Position
	message string
}

func cleanMessage(s string) string {
	if len(s) > 6 && s[:6] == "toml: " {
		return s[6:]
	}
	return s
}

type treeParser struct {
	parser unstable.Parser
	src    []byte
	file   string
	root   *node
	starts []int // where the lines begin
}

// place turns an offset into a line and a column of characters.
func (p *treeParser) place(offset int) Position {
	line, found := slices.BinarySearch(p.starts, offset)
	if found { // the first byte of a line
		line++
	}
	start := p.starts[line-1]
	return Position{p.file, line, utf8.RuneCount(p.src[start:offset]) + 1}
}

// descend walks a dotted key from a table, making the tables on its way.
func (p *treeParser) descend(n *node, keys unstable.Iterator, list bool) *node {
	for keys.Next() {
		k := keys.Node()
		child := n.child(string(k.Data), p.place(int(k.Raw.Offset)), int(k.Raw.Length))
		if list && keys.IsLast() {
			child.kind = arrayNode
			element := newTable(child.keyAt)
			child.items = append(child.items, element)
			return element
		}
		if child.kind == arrayNode && len(child.items) > 0 {
			child = child.items[len(child.items)-1]
		}
		n = child
	}
	return n
}

func (p *treeParser) assign(n *node, e *unstable.Node) {
	keys := e.Key()
	for keys.Next() {
		k := keys.Node()
		at, length := p.place(int(k.Raw.Offset)), int(k.Raw.Length)
		if !keys.IsLast() {
			n = n.child(string(k.Data), at, length)
			continue
		}
		v := p.value(e.Value())
		v.keyAt, v.keyLen = at, length
		n.put(string(k.Data), v)
	}
}

func (p *treeParser) value(e *unstable.Node) *node {
	raw := e.Raw
	if raw.Length == 0 && len(e.Data) > 0 {
		raw = p.parser.Range(e.Data)
	}
	n := &node{at: p.place(int(raw.Offset)), width: p.firstLine(raw)}
	switch e.Kind {
	case unstable.String:
		n.kind, n.value = stringNode, string(e.Data)
		text := strings.Trim(string(p.src[raw.Offset:min(uint32(len(p.src)), raw.Offset+5)]), "\"'")
		n.skipped = strings.HasPrefix(text, "\n") || strings.HasPrefix(text, "\r\n")
	case unstable.Bool:
		n.kind, n.value = boolNode, string(e.Data) == "true"
	case unstable.Integer:
		n.kind = integerNode
		// Checked by the decoder above; base prefixes and _ are allowed.
		n.value, _ = strconv.ParseInt(string(e.Data), 0, 64)
	case unstable.Array:
		n.kind = arrayNode
		for it := e.Children(); it.Next(); {
			item := p.value(it.Node())
			item.keyAt, item.keyLen = item.at, item.width
			n.items = append(n.items, item)
		}
	case unstable.InlineTable:
		n.kind, n.table = tableNode, map[string]*node{}
		for it := e.Children(); it.Next(); {
			p.assign(n, it.Node())
		}
	default:
		n.kind, n.value = otherNode, string(e.Data)
	}
	return n
}

func (p *treeParser) firstLine(r unstable.Range) int {
	text := p.src[r.Offset : r.Offset+r.Length]
	for i, c := range text {
		if c == '\n' {
			text = text[:i]
			break
		}
	}
	return utf8.RuneCount(text)
}

func newTable(at Position) *node {
	return &node{kind: tableNode, keyAt: at, at: at, table: map[string]*node{}}
}

func (n *node) child(key string, at Position, length int) *node {
	if c, ok := n.table[key]; ok {
		return c
	}
	c := newTable(at)
	c.keyLen = length
	n.put(key, c)
	return c
}

func (n *node) put(key string, c *node) {
	n.table[key] = c
	n.order = append(n.order, key)
}

// clone copies the tables of a tree, which merge changes; its values are
// shared.
func (n *node) clone() *node {
	if n.kind != tableNode {
		return n
	}
	c := *n
	c.table, c.order = make(map[string]*node, len(n.table)), append([]string(nil), n.order...)
	for key, child := range n.table {
		c.table[key] = child.clone()
	}
	return &c
}

// merge lays a table over another: tables key by key, everything else in
// place of what was there.
func (n *node) merge(over *node) {
	for _, key := range over.order {
		theirs := over.table[key]
		mine, ok := n.table[key]
		switch {
		case !ok:
			n.put(key, theirs.clone())
		case mine.kind == tableNode && theirs.kind == tableNode:
			mine.merge(theirs)
		default:
			n.table[key] = theirs
		}
	}
}

// lines collects the lines that a tree has its keys and values on.
func (n *node) lines(into map[Position]bool) {
	for _, at := range []Position{n.keyAt, n.at} {
		into[Position{at.File, at.Line, 0}] = true
	}
	for _, c := range n.table {
		c.lines(into)
	}
	for _, c := range n.items {
		c.lines(into)
	}
}
