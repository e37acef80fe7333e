package journal

import (
	"bytes"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode/utf8"
)

// Pattern finds what somebody looks for: a text, in which small letters stand
// for large ones too unless there is a large one, or a regular expression.
type Pattern struct {
	re *regexp.Regexp // nil if the literal says it all
	// literal is in every match; folded says that its letters may be large
	// ones. Empty if nothing is known.
	literal []byte
	folded  bool
	rarest  int // the place in the literal of the byte that is looked for
}

// Text makes a pattern of a text; nil of an empty one.
func Text(s string) *Pattern {
	if s == "" {
		return nil
	}
	p := &Pattern{literal: []byte(s), folded: s == strings.ToLower(s)}
	for _, r := range s {
		if r >= utf8.RuneSelf && p.folded {
			p.re = regexp.MustCompile("(?i)" + regexp.QuoteMeta(s))
			p.literal, p.folded = nil, false
			return p
		}
	}
	p.prepare()
	return p
}

// Expression makes a pattern of a regular expression of Go's syntax; nil of an
// empty one.
func Expression(s string) (*Pattern, error) {
	if s == "" {
		return nil, nil
	}
	if _, err := regexp.Compile(s); err != nil {
		return nil, fmt.Errorf("%q is not a regular expression: %w", s, err)
	}
	p := &Pattern{re: regexp.MustCompile("(?m)" + s)} // in each line of an entry
	if parsed, err := syntax.Parse(s, syntax.Perl); err == nil {
		literal, folded := required(parsed.Simplify())
		p.literal, p.folded = []byte(literal), folded
	}
	p.prepare()
	return p, nil
}

// Parse makes a pattern of what somebody typed: an expression between slashes,
// or else a text.
func Parse(s string) (*Pattern, error) {
	if len(s) > 2 && s[0] == '/' && s[len(s)-1] == '/' {
		return Expression(s[1 : len(s)-1])
	}
	return Text(s), nil
}

// Quote returns what Parse reads as a pattern of a text, whatever is in it.
func Quote(s string) string {
	if len(s) < 3 || s[0] != '/' || s[len(s)-1] != '/' {
		return s
	}
	fold := ""
	if s == strings.ToLower(s) {
		fold = "(?i)"
	}
	return "/" + fold + regexp.QuoteMeta(s) + "/"
}

// required returns the longest text that every match of the expression has in it.
func required(re *syntax.Regexp) (literal string, folded bool) {
	switch re.Op {
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			if r >= utf8.RuneSelf && re.Flags&syntax.FoldCase != 0 {
				return "", false
			}
		}
		s := string(re.Rune)
		if re.Flags&syntax.FoldCase != 0 {
			// k and s have large forms beyond ASCII.
			if strings.ContainsAny(strings.ToLower(s), "ks") {
				return "", false
			}
			return strings.ToLower(s), true
		}
		return s, false
	case syntax.OpCapture, syntax.OpPlus:
		return required(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return required(re.Sub[0])
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			if l, f := required(sub); len(l) > len(literal) {
				literal, folded = l, f
			}
		}
	}
	return literal, folded
}

// often orders the letters by how often they are in what programs print, the
// most frequent first.
const often = " e0t1aoirns2l-.:3c/d4p5u6m7h8g9\"=f_by,vwkETAISRNOCxDLqjzPMUGHBFVWYKXJQZ"

func (p *Pattern) prepare() {
	best := -1
	for i, c := range p.literal {
		rank := strings.IndexByte(often, c)
		if rank < 0 {
			rank = len(often)
		}
		if p.folded && c >= 'a' && c <= 'z' {
			rank /= 2 // both forms have to be looked for
		}
		if rank > best {
			best, p.rarest = rank, i
		}
	}
}

// index finds the literal from a place on.
func (p *Pattern) index(b []byte, from int) int {
	if !p.folded {
		i := bytes.Index(b[from:], p.literal)
		if i < 0 {
			return -1
		}
		return from + i
	}
	c := p.literal[p.rarest]
	upper := c
	if c >= 'a' && c <= 'z' {
		upper -= 'a' - 'A'
	}
	for at := from + p.rarest; at < len(b); {
		i := bytes.IndexByte(b[at:], c)
		if upper != c {
			before := b[at:]
			if i >= 0 {
				before = before[:i]
			}
			if k := bytes.IndexByte(before, upper); k >= 0 {
				i = k
			}
		}
		if i < 0 {
			return -1
		}
		i += at
		if start := i - p.rarest; start+len(p.literal) <= len(b) && sameFolded(b[start:start+len(p.literal)], p.literal) {
			return start
		}
		at = i + 1
	}
	return -1
}

// sameFolded compares with a text in small letters.
func sameFolded(b, small []byte) bool {
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != small[i] {
			return false
		}
	}
	return true
}

// Matches reports whether a text has a match.
func (p *Pattern) Matches(b []byte) bool {
	if len(p.literal) > 0 {
		at := p.index(b, 0)
		if at < 0 || p.re == nil {
			return at >= 0
		}
	}
	return p.re.Match(b)
}

// Find lists where the matches in a text are, each from one byte to before
// another.
func (p *Pattern) Find(s string) [][]int {
	if p == nil {
		return nil
	}
	if p.re != nil {
		return p.re.FindAllStringIndex(s, -1)
	}
	var out [][]int
	b := []byte(s)
	for at := 0; at < len(b); {
		i := p.index(b, at)
		if i < 0 {
			break
		}
		out = append(out, []int{i, i + len(p.literal)})
		at = i + len(p.literal)
	}
	return out
}
