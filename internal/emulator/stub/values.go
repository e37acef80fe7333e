package stub

import (
	"encoding/base64"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"regexp/syntax"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
)

// maker makes values of schemas, the same ones for the same seed.
type maker struct {
	random *rand.Rand
	depth  map[*openapi3.Schema]int
	left   int // how many more values may be made
}

// mostValues bounds how large a made answer is.
const mostValues = 20_000

func newMaker(seed int64, about ...string) *maker {
	h := fnv.New64a()
	for _, text := range about {
		_, _ = h.Write([]byte(text + "\x00"))
	}
	return &maker{rand.New(rand.NewPCG(uint64(seed), h.Sum64())), map[*openapi3.Schema]int{}, mostValues}
}

// mostDeep is how often a schema may be within itself.
const mostDeep = 2

// words are what texts are made of.
var words = strings.Fields("hammer drill ladder tile cutter heat gun sander plane chisel level saw wrench clamp bench trowel rake spade mower pump trestle jack vice file rasp")

var people = []string{"Ines", "Tom", "Marit", "Tomas", "Lena", "Noor"}

// value makes a value of a schema; false if none can be made, since the schema needs itself.
func (m *maker) value(ref *openapi3.SchemaRef, name string) (any, bool) {
	if ref == nil || ref.Value == nil {
		return nil, true
	}
	s := ref.Value
	if m.left--; m.left < 0 || m.depth[s] >= mostDeep {
		return nil, false
	}
	m.depth[s]++
	defer func() { m.depth[s]-- }()
	switch {
	case s.Example != nil:
		return s.Example, true
	case len(s.Examples) > 0:
		return s.Examples[0], true
	case s.Const != nil:
		return s.Const, true
	case s.Default != nil:
		return s.Default, true
	case len(s.Enum) > 0:
		return s.Enum[m.random.IntN(len(s.Enum))], true
	case len(s.AllOf) > 0:
		return m.all(s, name)
	}
	for _, some := range []openapi3.SchemaRefs{s.OneOf, s.AnyOf} {
		for _, one := range some {
			v, ok := m.value(one, name)
			if !ok {
				continue
			}
			if o, is := v.(map[string]any); is && len(s.Properties) > 0 {
				if !m.object(s, o) {
					continue
				}
			}
			return v, true
		}
		if len(some) > 0 {
			return nil, s.Nullable
		}
	}
	switch {
	case s.Type.Permits("object") && (s.Type != nil || len(s.Properties) > 0 || s.AdditionalProperties.Schema != nil):
		out := map[string]any{}
		ok := m.object(s, out)
		return out, ok || s.Nullable
	case s.Type.Permits("array") && (s.Type != nil || s.Items != nil):
		return m.array(s, name)
	case s.Type == nil:
		return map[string]any{}, true
	case s.Type.Permits("string"):
		return m.text(s, name), true
	case s.Type.Permits("integer"):
		return m.number(s, true), true
	case s.Type.Permits("number"):
		return m.number(s, false), true
	case s.Type.Permits("boolean"):
		return m.random.IntN(2) == 0, true
	}
	return nil, true
}

// all makes a value that is of several schemas at once.
func (m *maker) all(s *openapi3.Schema, name string) (any, bool) {
	out := map[string]any{}
	var other any
	for _, part := range s.AllOf {
		v, ok := m.value(part, name)
		if !ok {
			return nil, s.Nullable
		}
		if o, is := v.(map[string]any); is {
			for k, v := range o {
				out[k] = v
			}
		} else {
			other = v
		}
	}
	if other != nil && len(out) == 0 && len(s.Properties) == 0 {
		return other, true
	}
	return out, m.object(s, out)
}

// object fills an object with what it must have, and what it may.
func (m *maker) object(s *openapi3.Schema, out map[string]any) bool {
	names := make([]string, 0, len(s.Properties))
	for n := range s.Properties {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		p := s.Properties[n]
		if _, has := out[n]; has || p.Value != nil && p.Value.WriteOnly {
			continue
		}
		v, ok := m.value(p, n)
		if ok {
			out[n] = v
		} else if slices.Contains(s.Required, n) {
			if p.Value == nil || !p.Value.Nullable {
				return false
			}
			out[n] = nil
		}
	}
	for _, n := range s.Required {
		if _, has := out[n]; !has && s.Properties[n] == nil {
			out[n] = n
		}
	}
	if more := s.AdditionalProperties.Schema; more != nil {
		for i := 0; i < 2 || uint64(len(out)) < s.MinProps && i < 100; i++ {
			if v, ok := m.value(more, ""); ok {
				out[fmt.Sprintf("%s%d", words[m.random.IntN(len(words))], i)] = v
			}
		}
	}
	return true
}

func (m *maker) array(s *openapi3.Schema, name string) (any, bool) {
	least := int(min(s.MinItems, 1000))
	n := max(least, 1+m.random.IntN(3))
	if s.MaxItems != nil {
		n = min(n, int(min(*s.MaxItems, 1000)))
	}
	out := []any{}
	seen := map[string]bool{}
	for try := 0; len(out) < n && try < 10*n+10; try++ {
		v, ok := m.value(s.Items, strings.TrimSuffix(name, "s"))
		if !ok {
			break
		}
		if text := fmt.Sprintf("%#v", v); s.UniqueItems && seen[text] {
			continue
		} else {
			seen[text] = true
		}
		out = append(out, v)
	}
	return out, len(out) >= least || s.Nullable
}

func (m *maker) number(s *openapi3.Schema, whole bool) any {
	low, high := 1.0, 1000.0
	if s.Min != nil {
		low, high = *s.Min, max(*s.Min+1000, *s.Min)
	}
	if s.Max != nil {
		high = *s.Max
		if s.Min == nil {
			low = min(low, high-1000)
			if high >= 1 {
				low = min(1, high)
			}
		}
	}
	step := 0.0
	if whole {
		step = 1
	}
	if s.MultipleOf != nil && *s.MultipleOf > 0 {
		step = *s.MultipleOf
	}
	if v := s.ExclusiveMin.Value; v != nil {
		low = *v + max(step, 0.01)
		high = max(high, low)
	}
	if v := s.ExclusiveMax.Value; v != nil {
		high = min(high, *v-max(step, 0.01))
	}
	if b := s.ExclusiveMin.Bool; b != nil && *b {
		low += max(step, 0.01)
	}
	if b := s.ExclusiveMax.Bool; b != nil && *b {
		high -= max(step, 0.01)
	}
	if high < low {
		high = low
	}
	v := low + m.random.Float64()*(high-low)
	if step > 0 {
		if v = math.Floor(v/step) * step; v < low {
			v = math.Ceil(low/step) * step
		}
	} else {
		v = math.Round(v*100) / 100
		v = min(max(v, low), high)
	}
	if whole {
		return int64(v)
	}
	return v
}

func (m *maker) letters(n int, of string) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = of[m.random.IntN(len(of))]
	}
	return string(b)
}

// begin is when made times begin.
var begin = time.Date(2026, 1, 5, 8, 0, 0, 0, time.UTC)

// text makes a text that its format and its name suggest.
func (m *maker) text(s *openapi3.Schema, name string) string {
	at := begin.Add(time.Duration(m.random.IntN(300*24*60)) * time.Minute)
	person := people[m.random.IntN(len(people))]
	const hex = "0123456789abcdef"
	switch s.Format {
	case "date":
		return at.Format(time.DateOnly)
	case "date-time":
		return at.Format(time.RFC3339)
	case "time":
		return at.Format("15:04:05Z")
	case "uuid":
		return m.letters(8, hex) + "-" + m.letters(4, hex) + "-4" + m.letters(3, hex) + "-8" + m.letters(3, hex) + "-" + m.letters(12, hex)
	case "email":
		return strings.ToLower(person) + "@example.org"
	case "uri", "url":
		return "https://example.org/" + words[m.random.IntN(len(words))]
	case "hostname":
		return words[m.random.IntN(len(words))] + ".example.org"
	case "ipv4":
		return fmt.Sprintf("192.0.2.%d", 1+m.random.IntN(250)) // RFC 5737
	case "ipv6":
		return "2001:db8::" + m.letters(4, "123456789abcdef") // RFC 3849
	case "byte":
		return base64.StdEncoding.EncodeToString([]byte(words[m.random.IntN(len(words))]))
	}
	if s.Pattern != "" {
		if text, ok := m.matching(s.Pattern); ok {
			return text
		}
	}
	text := words[m.random.IntN(len(words))] + " " + words[m.random.IntN(len(words))]
	switch lower := strings.ToLower(name); {
	case strings.Contains(lower, "email"):
		text = strings.ToLower(person) + "@example.org"
	case lower == "id" || strings.HasSuffix(name, "_id") || strings.HasSuffix(name, "Id"):
		text = m.letters(12, hex)
	case strings.Contains(lower, "name") && !strings.Contains(lower, "file"):
		text = person
	case lower == "currency":
		text = "EUR"
	case lower == "country":
		text = "NO"
	}
	for uint64(len(text)) < s.MinLength && len(text) < 1<<16 {
		text += " " + words[m.random.IntN(len(words))]
	}
	if s.MaxLength != nil && uint64(len(text)) > *s.MaxLength {
		text = text[:*s.MaxLength]
	}
	return text
}

// matching makes a text that an expression matches.
func (m *maker) matching(pattern string) (string, bool) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", false
	}
	var b strings.Builder
	ok := m.write(&b, re.Simplify(), 0)
	return b.String(), ok
}

func (m *maker) write(b *strings.Builder, re *syntax.Regexp, deep int) bool {
	const most = 4096
	if b.Len() > most || deep > 100 {
		return false
	}
	repeat := func(least, limit int) bool {
		n := least
		if limit < 0 || limit > least {
			n += m.random.IntN(2)
		}
		for range n {
			if !m.write(b, re.Sub[0], deep+1) {
				return false
			}
		}
		return true
	}
	switch re.Op {
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			b.WriteRune(r)
		}
	case syntax.OpCharClass:
		var all []rune
		for i := 0; i+1 < len(re.Rune); i += 2 {
			for r := max(re.Rune[i], ' '); r <= re.Rune[i+1] && r < 127 && len(all) < 256; r++ {
				all = append(all, r)
			}
		}
		if len(all) == 0 {
			if len(re.Rune) == 0 {
				return false
			}
			all = re.Rune[:1]
		}
		b.WriteRune(all[m.random.IntN(len(all))])
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte("abcdefghij"[m.random.IntN(10)])
	case syntax.OpStar:
		return repeat(0, -1)
	case syntax.OpPlus:
		return repeat(1, -1)
	case syntax.OpQuest:
		return repeat(0, 1)
	case syntax.OpRepeat:
		return repeat(re.Min, re.Max)
	case syntax.OpConcat, syntax.OpCapture:
		for _, sub := range re.Sub {
			if !m.write(b, sub, deep+1) {
				return false
			}
		}
	case syntax.OpAlternate:
		return m.write(b, re.Sub[m.random.IntN(len(re.Sub))], deep+1)
	case syntax.OpNoMatch, syntax.OpWordBoundary, syntax.OpNoWordBoundary:
		return false
	}
	return true
}
