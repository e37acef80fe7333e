package query

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/value"
)

// Bound is something that every document which a filter means has at a path. It need not
// be all that the filter asks there.
type Bound struct {
	Path     string
	Operator string // $eq, $gt, $gte, $lt, $lte, or $in with an array; $exists if it asks that there is something
	Value    bson.RawValue
}

// Bounds returns the bounds of the documents that the filter means.
func (f *Filter) Bounds() []Bound { return f.bounds }

func boundsOf(out []Bound, filter []byte) []Bound {
	value.Elements(filter, func(name string, v bson.RawValue) bool {
		switch {
		case name == "$and" && v.Type == bson.TypeArray:
			for _, part := range value.Items(v) {
				out = boundsOf(out, part.Value)
			}
		case strings.HasPrefix(name, "$"), v.Type == bson.TypeRegex:
		case v.Type == bson.TypeEmbeddedDocument && operators(v.Value):
			value.Elements(v.Value, func(operator string, v bson.RawValue) bool {
				switch operator {
				case "$eq", "$gt", "$gte", "$lt", "$lte":
					out = append(out, Bound{name, operator, v})
				case "$in":
					out = append(out, Bound{name, operator, v})
				case "$exists":
					if expression.Truth(v) {
						out = append(out, Bound{name, operator, v})
					}
				}
				return true
			})
		default:
			out = append(out, Bound{name, "$eq", v})
		}
		return true
	})
	return out
}

// Implies reports whether the filter means no document that another doesn't. It may say
// no where that is so, but never yes where it isn't.
func (f *Filter) Implies(other bson.Raw) bool {
	implied := true
	value.Elements(other, func(name string, v bson.RawValue) bool {
		implied = f.implies(name, v)
		return implied
	})
	return implied
}

func (f *Filter) implies(name string, asked bson.RawValue) bool {
	if strings.HasPrefix(name, "$") {
		if name != "$and" || asked.Type != bson.TypeArray {
			return false
		}
		for _, part := range value.Items(asked) {
			if !f.Implies(part.Value) {
				return false
			}
		}
		return true
	}
	parts := []value.Named{{Name: "$eq", Value: asked}}
	if asked.Type == bson.TypeEmbeddedDocument && operators(asked.Value) {
		parts = value.Members(asked.Value)
	}
	for _, part := range parts {
		if !f.impliesOne(name, part) {
			return false
		}
	}
	return true
}

// impliesOne reports whether all documents have at a path what one operator asks.
func (f *Filter) impliesOne(path string, asked value.Named) bool {
	for _, b := range f.bounds {
		switch {
		case b.Path != path:
		case b.Operator == asked.Name && value.Equal(b.Value, asked.Value):
			return true
		case b.Operator == "$eq" && !isNull(b.Value) && b.Value.Type != bson.TypeArray:
			// What is so of the value is so of every document that has it.
			n, err := f.parser.parseField([]string{"v"}, value.OfDocument(value.Document(asked)))
			if err == nil && n.matches(value.OfDocument(value.Document(value.Named{Name: "v", Value: b.Value}))) {
				return true
			}
		case asked.Name == "$exists" && expression.Truth(asked.Value) && found(b):
			return true
		case b.Operator == "$gt" || b.Operator == "$gte" || b.Operator == "$lt" || b.Operator == "$lte":
			if beyond(b, asked) {
				return true
			}
		}
	}
	return false
}

// found reports whether a bound is met only by what is there.
func found(b Bound) bool {
	switch b.Operator {
	case "$exists":
		return true
	case "$in":
		for _, v := range value.Items(b.Value) {
			if isNull(v) {
				return false
			}
		}
		return true
	}
	return !isNull(b.Value)
}

// beyond reports whether a bound is inside of what an operator of the same side asks.
func beyond(b Bound, asked value.Named) bool {
	if value.ClassOf(b.Value.Type) != value.ClassOf(asked.Value.Type) || b.Value.Type == bson.TypeArray || isNull(b.Value) || notANumber(b.Value) || notANumber(asked.Value) || len(asked.Name) < 3 || b.Operator[:3] != asked.Name[:3] {
		return false
	}
	d := value.Compare(b.Value, asked.Value)
	if b.Operator[1] == 'l' {
		d = -d
	}
	return d > 0 || d == 0 && (asked.Name[len(asked.Name)-1] == 'e' || b.Operator[len(b.Operator)-1] != 'e')
}

// Null reports whether a value is null, or is met by it.
func Null(v bson.RawValue) bool { return isNull(v) }

// NotANumber reports whether a value is NaN.
func NotANumber(v bson.RawValue) bool { return notANumber(v) }

// At calls visit with each value to which a path leads in a document, elements of arrays
// on the way included; found is false where there is none. Arrays in the end are not
// taken apart.
func At(document bson.Raw, path []string, visit func(v bson.RawValue, found bool)) {
	walk(value.OfDocument(document), path, func(v bson.RawValue, found bool) bool {
		visit(v, found)
		return false
	})
}

// Position returns the number of the element in the array at a path because of which the
// filter means a document. It may be asked for documents that the filter means.
func (f *Filter) Position(document bson.Raw, path []string) (int, bool) {
	array, ok := value.Lookup(value.OfDocument(document), path)
	if !ok || array.Type != bson.TypeArray {
		return 0, false
	}
	at := position(f.node, value.OfDocument(document), path, array)
	return at, at >= 0
}

// position returns the number that the last part of a filter which asks about an array
// leads to, -1 if none does.
func position(n node, document bson.RawValue, path []string, array bson.RawValue) int {
	below := func(whole []string) ([]string, bool) {
		if len(whole) < len(path) || strings.Join(whole[:len(path)], ".") != strings.Join(path, ".") {
			return nil, false
		}
		return whole[len(path):], true
	}
	at := -1
	switch n := n.(type) {
	case all:
		for _, part := range n {
			if p := position(part, document, path, array); p >= 0 {
				at = p
			}
		}
	case any:
		for _, part := range n {
			if part.matches(document) {
				if p := position(part, document, path, array); p >= 0 {
					return p
				}
			}
		}
	case field:
		rest, is := below(n.path)
		if !is {
			return -1
		}
		for i, e := range value.Items(array) {
			if len(rest) == 0 && n.is(e, true) || len(rest) > 0 && e.Type == bson.TypeEmbeddedDocument && (field{rest, n.is}).matches(e) {
				return i
			}
		}
	case elements:
		if rest, is := below(n.path); is && len(rest) == 0 {
			return n.first(array)
		}
	}
	return at
}
