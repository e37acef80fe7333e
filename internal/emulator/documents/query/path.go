package query

import (
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/value"
)

// walk calls visit with each value to which a path leads, until that returns true,
// and reports whether it did. A part of a path leads from an array to its element of
// that number, and to that member of each document in it. Where a document doesn't
// have what the path names, or there is no document, found is false.
func walk(v bson.RawValue, path []string, visit func(v bson.RawValue, found bool) bool) bool {
	if len(path) == 0 {
		return visit(v, true)
	}
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		m, ok := value.Member(v.Value, path[0])
		if !ok {
			return visit(bson.RawValue{}, false)
		}
		return walk(m, path[1:], visit)
	case bson.TypeArray:
		if isIndex(path[0]) {
			if m, ok := value.Member(v.Value, path[0]); ok && walk(m, path[1:], visit) {
				return true
			}
		}
		stop := false
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
			if e.Type == bson.TypeEmbeddedDocument {
				stop = walk(e, path, visit)
			}
			return !stop
		})
		return stop
	}
	return visit(bson.RawValue{}, false)
}

// isIndex reports whether a part of a path can be the number of an element.
func isIndex(part string) bool {
	n, err := strconv.ParseUint(part, 10, 31)
	return err == nil && strconv.FormatUint(n, 10) == part
}

// candidates calls visit with each value to which a path leads and, if that is an
// array, with its elements: a condition holds for an array if it does for one of them.
// Without a path it is of the value as such.
func candidates(v bson.RawValue, path []string, visit func(v bson.RawValue, found bool) bool) bool {
	if len(path) == 0 {
		return visit(v, true)
	}
	return walk(v, path, func(v bson.RawValue, found bool) bool {
		if visit(v, found) {
			return true
		}
		if !found || v.Type != bson.TypeArray {
			return false
		}
		stop := false
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
			stop = visit(e, true)
			return !stop
		})
		return stop
	})
}

// Extreme returns what a document is sorted by: the smallest of the values to which a
// path leads and, for arrays, of their elements; or the largest. An array without
// elements comes before null, and what isn't there is null.
func Extreme(document bson.Raw, path []string, largest bool, c *value.Collation) bson.RawValue {
	out := value.Null
	some := false
	take := func(v bson.RawValue) {
		if d := c.Compare(v, out); !some || largest && d > 0 || !largest && d < 0 {
			out, some = v, true
		}
	}
	walk(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: document}, path, func(v bson.RawValue, found bool) bool {
		switch {
		case !found:
			take(value.Null)
		case v.Type == bson.TypeArray:
			empty := true
			value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
				take(e)
				empty = false
				return true
			})
			if empty {
				take(bson.RawValue{Type: bson.TypeUndefined})
			}
		default:
			take(v)
		}
		return false
	})
	return out
}

// Values calls do with the values to which a path leads, and with the elements of
// those that are arrays in their place.
func Values(document bson.Raw, path []string, do func(bson.RawValue)) {
	walk(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: document}, path, func(v bson.RawValue, found bool) bool {
		switch {
		case found && v.Type == bson.TypeArray:
			value.Elements(v.Value, func(_ string, e bson.RawValue) bool { do(e); return true })
		case found:
			do(v)
		}
		return false
	})
}
