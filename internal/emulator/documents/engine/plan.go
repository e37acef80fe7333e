package engine

import (
	"bytes"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// span are keys from one on to before another; without these it has no end there.
type span struct{ from, to []byte }

// plan is how documents are found.
type plan struct {
	index   *Index // nil: all are looked at, in the order in which they came
	spans   []span
	back    bool // the last keys first
	ordered bool // they come in the order of the sort
	bound   int  // how many fields of the index are bounded
}

// mostPoints is how many places of an index are looked up at most.
const mostPoints = 2000

// after returns the first key that doesn't begin as one does, nil if there is none.
func after(key []byte) []byte {
	key = bytes.Clone(key)
	for n := len(key) - 1; n >= 0; n-- {
		if key[n] != 0xff {
			key[n]++
			return key[:n+1]
		}
	}
	return nil
}

// inverted is a key of the other direction.
func inverted(key []byte) []byte {
	out := make([]byte, len(key))
	for i, b := range key {
		out[i] = ^b
	}
	return out
}

// bounded is what a filter asks of one field, in the ascending direction.
type bounded struct {
	points [][]byte // each a whole key
	ranges []span
}

// boundsAt returns what bounds say of a path: what must be if there are arrays, of which
// different elements may meet different bounds, is one of them.
func boundsAt(all []query.Bound, path string, c *value.Collation, arrays bool) (b bounded) {
	var low, high []byte
	for _, q := range all {
		if q.Path != path {
			continue
		}
		switch q.Operator {
		case "$eq", "$in":
			values := []bson.RawValue{q.Value}
			if q.Operator == "$in" && q.Value.Type == bson.TypeArray {
				values = value.Items(q.Value)
			}
			if points, ok := pointsOf(values, c); ok && (b.points == nil || len(points) < len(b.points)) {
				b.points = points
			}
		case "$gt", "$gte", "$lt", "$lte":
			class := value.ClassOf(q.Value.Type)
			if query.Null(q.Value) || query.NotANumber(q.Value) || q.Value.Type == bson.TypeArray || class == value.ClassMinKey || class == value.ClassMaxKey {
				continue
			}
			key := c.Key(q.Value)
			s := span{[]byte{byte(class)}, []byte{byte(class) + 1}}
			switch q.Operator {
			case "$gt":
				s.from = after(key)
			case "$gte":
				s.from = key
			case "$lt":
				s.to = key
			case "$lte":
				s.to = after(key)
			}
			if arrays && b.ranges != nil {
				continue
			}
			if low == nil || bytes.Compare(s.from, low) > 0 {
				low = s.from
			}
			if high == nil || bytes.Compare(s.to, high) < 0 {
				high = s.to
			}
			b.ranges = []span{{low, high}}
		}
	}
	return b
}

// pointsOf returns the keys of values, unless one can't be found by its key: an array is
// in the index by its elements.
func pointsOf(values []bson.RawValue, c *value.Collation) (points [][]byte, ok bool) {
	points = [][]byte{}
	for _, v := range values {
		switch {
		case v.Type == bson.TypeArray || v.Type == bson.TypeRegex:
			return nil, false
		case query.Null(v):
			points = append(points, c.Key(value.Null), c.Key(bson.RawValue{Type: bson.TypeUndefined}))
		default:
			points = append(points, c.Key(v))
		}
	}
	slices.SortFunc(points, bytes.Compare)
	return slices.CompactFunc(points, bytes.Equal), len(points) <= mostPoints
}

// choose returns the plan that looks at the fewest documents, as far as that can be told
// from the filter. A hint names the only index that may be used, $natural none.
func choose(c *collection, f *query.Filter, by query.Sort, collation *value.Collation, hint string) (plan, error) {
	best, points := plan{}, 0
	if hint == "$natural" {
		return best, nil
	}
	bounds := f.Bounds()
	hinted := false
	for _, i := range c.indexes {
		if i.text != nil || hint != "" && i.Name != hint {
			continue
		}
		hinted = true
		p, score := consider(i, f, bounds, by, collation)
		if score > 0 && (best.index == nil || score > points) {
			best, points = p, score
		}
	}
	if hint != "" && !hinted {
		return best, fault.BadValue("error processing query: hint provided does not correspond to an existing index")
	}
	return best, nil
}

// consider returns the plan with an index, and how good that is: 0 if it can't be used.
func consider(i *Index, f *query.Filter, bounds []query.Bound, by query.Sort, collation *value.Collation) (p plan, score int) {
	if i.partial != nil && !f.Implies(i.partial) {
		return p, 0
	}
	sameTexts := i.collation.Same(collation)
	if !sameTexts && !withoutTexts(bounds) {
		return p, 0
	}
	arrays := i.multikey.Load()
	p = plan{index: i, spans: []span{{}}}
	present := false // what is found has one of the fields
	equal := 0
	for _, field := range i.fields {
		b := boundsAt(bounds, strings.Join(field.Path, "."), i.collation, arrays)
		if b.points != nil && len(p.spans)*len(b.points) <= mostPoints {
			present = present || !slices.ContainsFunc(b.points, func(key []byte) bool { return value.Class(key[0]) <= value.ClassNull })
			p.spans = extend(p.spans, b.points, field.Down)
			equal++
			p.bound++
			score += 10
			continue
		}
		if b.ranges != nil {
			present = true
			p.spans = narrow(p.spans, b.ranges[0], field.Down)
			p.bound++
			score += 5
		}
		break
	}
	for n := range p.spans {
		if p.spans[n].to == nil && p.spans[n].from != nil {
			p.spans[n].to = after(p.spans[n].from)
		}
	}
	if i.sparse && !present {
		return p, 0
	}
	if sameTexts && !arrays && len(p.spans) == 1 && i.order(&p, by, equal) {
		score += 3
	}
	if score > 0 && i.id == 0 {
		score++ // whose documents are beside it
	}
	return p, score
}

// withoutTexts reports whether no bound depends on how texts are compared.
func withoutTexts(bounds []query.Bound) bool {
	for _, b := range bounds {
		switch value.ClassOf(b.Value.Type) {
		case value.ClassString, value.ClassObject, value.ClassArray:
			return false
		}
	}
	return true
}

// extend appends each of some keys to the beginnings of keys.
func extend(spans []span, points [][]byte, down bool) (out []span) {
	for _, s := range spans {
		for _, key := range points {
			if down {
				key = inverted(key)
			}
			out = append(out, span{from: append(bytes.Clone(s.from), key...)})
		}
	}
	slices.SortFunc(out, func(a, b span) int { return bytes.Compare(a.from, b.from) })
	return out
}

// narrow appends a range to the beginnings of keys.
func narrow(spans []span, r span, down bool) (out []span) {
	for _, s := range spans {
		from, to := r.from, r.to
		if down { // what begins as the inverted upper end is still outside
			from, to = inverted(r.to), inverted(r.from)
			if a := after(to); a != nil {
				to = a
			}
		}
		out = append(out, span{append(bytes.Clone(s.from), from...), append(bytes.Clone(s.from), to...)})
	}
	return out
}

// order notes that the index has the documents in the order of a sort, from its beginning
// or its end, and reports whether it does.
func (i *Index) order(p *plan, by query.Sort, equal int) bool {
	if len(by) == 0 {
		return false
	}
	at := 0
	for n, part := range by {
		// A field that has one value everywhere sorts nothing.
		for at < equal && at < len(i.fields) && !slices.Equal(i.fields[at].Path, part.Path) {
			at++
		}
		if at == len(i.fields) || !slices.Equal(i.fields[at].Path, part.Path) {
			return false
		}
		back := i.fields[at].Down != part.Down
		if n > 0 && back != p.back {
			return false
		}
		p.back = back
		at++
	}
	p.ordered = true
	return true
}
