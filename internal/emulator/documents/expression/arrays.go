package expression

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

var arrayOperators = map[string]operator{
	"$size": {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if a[0].Type != bson.TypeArray {
			return a[0], &fault.Error{Code: 17124, Name: "Location17124", Message: "The argument to $size must be an array, but was of type: " + typeName(a[0])}
		}
		return value.Of(int32(len(value.Items(a[0])))), nil
	}},
	"$isArray": {1, 1, func(_ *call, a []bson.RawValue) (bson.RawValue, error) {
		return value.Of(a[0].Type == bson.TypeArray), nil
	}},
	"$first": {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return c.element(a[0], 0) }},
	"$last":  {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return c.element(a[0], -1) }},
	"$arrayElemAt": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if someNull(a) {
			return value.Null, nil
		}
		n, ok := value.Integer(a[1])
		if !ok {
			return a[1], c.wrong(a[1], "a whole number")
		}
		return c.element(a[0], n)
	}},
	"$concatArrays": {0, -1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		var out []bson.RawValue
		if someNull(a) {
			return value.Null, nil
		}
		for _, v := range a {
			if v.Type != bson.TypeArray {
				return v, c.wrong(v, "arrays")
			}
			out = append(out, value.Items(v)...)
		}
		return value.Array(out), nil
	}},
	"$slice": {2, 3, slice},
	"$in": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if a[1].Type != bson.TypeArray {
			return a[1], &fault.Error{Code: 40081, Name: "Location40081", Message: "$in requires an array as a second argument, found: " + typeName(a[1])}
		}
		return value.Of(c.index(a[1], a[0]) >= 0), nil
	}},
	"$indexOfArray": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if null(a[0]) {
			return value.Null, nil
		}
		if a[0].Type != bson.TypeArray {
			return a[0], c.wrong(a[0], "an array")
		}
		return value.Of(int32(c.index(a[0], a[1]))), nil
	}},
	"$reverseArray": {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		return c.onArray(a[0], func(all []bson.RawValue) []bson.RawValue { slices.Reverse(all); return all })
	}},
	"$range": {2, 3, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		n := []int64{0, 0, 1}
		for i, v := range a {
			var ok bool
			if n[i], ok = value.Integer(v); !ok {
				return v, c.wrong(v, "whole numbers")
			}
		}
		if n[2] == 0 || (n[1]-n[0])/n[2] > 1_000_000 {
			return a[0], fault.BadValue("$range needs a step that is not 0, and at most 1,000,000 steps")
		}
		var out []bson.RawValue
		for i := n[0]; n[2] > 0 && i < n[1] || n[2] < 0 && i > n[1]; i += n[2] {
			out = append(out, like(nil, i))
		}
		return value.Array(out), nil
	}},
	"$setUnion":        {0, -1, sets(func(all []set) set { return union(all) })},
	"$setIntersection": {1, -1, sets(func(all []set) set { return keep(all[0], all[1:], true) })},
	"$setDifference":   {2, 2, sets(func(all []set) set { return keep(all[0], all[1:], false) })},
	"$setEquals": {2, -1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		all, _, err := c.sets(a)
		for i := 1; err == nil && i < len(all); i++ {
			if len(all[i].keys) != len(all[0].keys) || len(keep(all[0], all[i:i+1], true).all) != len(all[0].keys) {
				return value.Of(false), nil
			}
		}
		return value.Of(true), err
	}},
	"$setIsSubset": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		all, _, err := c.sets(a)
		if err != nil || len(all) < 2 {
			return value.Null, err
		}
		return value.Of(len(keep(all[0], all[1:], false).all) == 0), nil
	}},
	"$anyElementTrue":  {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return c.some(a[0], true) }},
	"$allElementsTrue": {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return c.some(a[0], false) }},
	"$arrayToObject":   {1, 1, toObject},
	"$objectToArray": {1, 1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if null(a[0]) {
			return value.Null, nil
		}
		if a[0].Type != bson.TypeEmbeddedDocument {
			return a[0], c.wrong(a[0], "a document")
		}
		var out []bson.RawValue
		for _, m := range value.Members(a[0].Value) {
			out = append(out, value.OfDocument(value.Document(value.Named{Name: "k", Value: value.Of(m.Name)}, value.Named{Name: "v", Value: m.Value})))
		}
		return value.Array(out), nil
	}},
}

func typeName(v bson.RawValue) string {
	if v.Type == 0 {
		return "missing"
	}
	return value.Name(v.Type)
}

func sortStable(all []bson.RawValue, order func(a, b bson.RawValue) int) {
	slices.SortStableFunc(all, order)
}

// element returns the element of a number, counted from the end if that is negative.
func (c *call) element(v bson.RawValue, n int64) (bson.RawValue, error) {
	if null(v) {
		return value.Null, nil
	}
	if v.Type != bson.TypeArray {
		return v, &fault.Error{Code: 28689, Name: "Location28689", Message: c.name + "'s first argument must be an array, but is " + typeName(v)}
	}
	all := value.Items(v)
	if n < 0 {
		n += int64(len(all))
	}
	if n < 0 || n >= int64(len(all)) {
		return Missing, nil
	}
	return all[n], nil
}

func (c *call) index(array, v bson.RawValue) int {
	return slices.IndexFunc(value.Items(array), func(e bson.RawValue) bool { return c.collation.Equal(e, v) })
}

func (c *call) onArray(v bson.RawValue, do func([]bson.RawValue) []bson.RawValue) (bson.RawValue, error) {
	if null(v) {
		return value.Null, nil
	}
	if v.Type != bson.TypeArray {
		return v, c.wrong(v, "an array")
	}
	return value.Array(do(value.Items(v))), nil
}

func slice(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if someNull(a) {
		return value.Null, nil
	}
	var n []int64
	for _, v := range a[1:] {
		i, ok := value.Integer(v)
		if !ok {
			return v, c.wrong(v, "whole numbers")
		}
		n = append(n, i)
	}
	if len(n) == 2 && n[1] <= 0 {
		return a[2], &fault.Error{Code: 28729, Name: "Location28729", Message: "Third argument to $slice must be positive"}
	}
	return c.onArray(a[0], func(all []bson.RawValue) []bson.RawValue { return Slice(all, n) })
}

// Slice returns a part of some elements: the first n[0] of them, the last if that is
// negative; or n[1] of them from the number n[0] on.
func Slice(all []bson.RawValue, n []int64) []bson.RawValue {
	size := int64(len(all))
	from, count := int64(0), n[0]
	switch {
	case len(n) == 2 && n[0] < 0:
		from, count = max(size+n[0], 0), n[1]
	case len(n) == 2:
		from, count = min(n[0], size), n[1]
	case n[0] < 0:
		from, count = max(size+n[0], 0), size
	}
	return all[from : from+min(count, size-from)]
}

// set are values, each once, in the order in which they came.
type set struct {
	all  []bson.RawValue
	keys []string
}

func (c *call) sets(a []bson.RawValue) (all []set, null bool, err error) {
	if someNull(a) {
		return nil, true, nil
	}
	for _, v := range a {
		if v.Type != bson.TypeArray {
			return nil, false, c.wrong(v, "arrays")
		}
		s := set{}
		for _, e := range value.Items(v) {
			s.add(e, string(c.collation.Key(e)))
		}
		all = append(all, s)
	}
	return all, false, nil
}

func (s *set) add(v bson.RawValue, key string) {
	if !slices.Contains(s.keys, key) {
		s.all, s.keys = append(s.all, v), append(s.keys, key)
	}
}

func union(all []set) (out set) {
	for _, s := range all {
		for i, v := range s.all {
			out.add(v, s.keys[i])
		}
	}
	return out
}

// keep returns the values of a set that are in all others, or in none.
func keep(of set, others []set, in bool) (out set) {
	for i, v := range of.all {
		if !slices.ContainsFunc(others, func(o set) bool { return slices.Contains(o.keys, of.keys[i]) != in }) {
			out.add(v, of.keys[i])
		}
	}
	return out
}

func sets(do func([]set) set) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		all, null, err := c.sets(a)
		if err != nil || null {
			return value.Null, err
		}
		out := do(all).all
		slices.SortStableFunc(out, c.collation.Compare)
		return value.Array(out), nil
	}
}

func (c *call) some(v bson.RawValue, wanted bool) (bson.RawValue, error) {
	if v.Type != bson.TypeArray {
		return v, c.wrong(v, "an array")
	}
	return value.Of(slices.ContainsFunc(value.Items(v), func(e bson.RawValue) bool { return Truth(e) == wanted }) == wanted), nil
}

func toObject(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if null(a[0]) {
		return value.Null, nil
	}
	if a[0].Type != bson.TypeArray {
		return a[0], c.wrong(a[0], "an array")
	}
	out := value.OfDocument(value.Document())
	for _, e := range value.Items(a[0]) {
		var k, v bson.RawValue
		switch e.Type {
		case bson.TypeEmbeddedDocument:
			k, _ = value.Member(e.Value, "k")
			v, _ = value.Member(e.Value, "v")
		case bson.TypeArray:
			if pair := value.Items(e); len(pair) == 2 {
				k, v = pair[0], pair[1]
			}
		}
		name, ok := k.StringValueOK()
		if !ok || v.Type == 0 {
			return e, c.wrong(e, "an array of documents with k and v, or of pairs")
		}
		out = Put(out, name, v)
	}
	return out, nil
}
