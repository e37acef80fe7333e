package value

import (
	"encoding/binary"
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Named is a member of a document, or an element of an array, whose name is its number.
type Named struct {
	Name  string
	Value bson.RawValue
}

// Members returns the members of a document, or the elements of an array.
func Members(document []byte) []Named {
	var out []Named
	Elements(document, func(name string, v bson.RawValue) bool {
		out = append(out, Named{name, v})
		return true
	})
	return out
}

// Items returns the elements of an array.
func Items(array bson.RawValue) []bson.RawValue {
	var out []bson.RawValue
	Elements(array.Value, func(_ string, v bson.RawValue) bool {
		out = append(out, v)
		return true
	})
	return out
}

// Assemble makes a document, or an array, whose elements get their numbers as names.
func Assemble(t bson.Type, all []Named) bson.RawValue {
	out := Begin(nil)
	for i, m := range all {
		name := m.Name
		if t == bson.TypeArray {
			name = strconv.Itoa(i)
		}
		out = Append(out, name, m.Value)
	}
	return bson.RawValue{Type: t, Value: Finish(out)}
}

// Document makes a document of its members.
func Document(all ...Named) bson.Raw {
	return bson.Raw(Assemble(bson.TypeEmbeddedDocument, all).Value)
}

// Array makes an array of its elements.
func Array(all []bson.RawValue) bson.RawValue {
	out := Begin(nil)
	for i, v := range all {
		out = Append(out, strconv.Itoa(i), v)
	}
	return bson.RawValue{Type: bson.TypeArray, Value: Finish(out)}
}

// Begin begins a document's bytes in a buffer, which may be nil; Append appends a
// member, and Finish completes it.
func Begin(buffer []byte) []byte { return append(buffer[:0], 0, 0, 0, 0) }

// Append appends a member to a document that was begun.
func Append(out []byte, name string, v bson.RawValue) []byte {
	t := v.Type
	if t == 0 {
		t = bson.TypeNull
	}
	return append(append(append(append(out, byte(t)), name...), 0), v.Value...)
}

// Finish completes a document that was begun.
func Finish(out []byte) []byte {
	out = append(out, 0)
	binary.LittleEndian.PutUint32(out, uint32(len(out)))
	return out
}

// Of makes a value of a Go value: a number, a text, a time, a truth, or what else the
// encoder takes and never fails on.
func Of(v any) bson.RawValue {
	t, b, err := bson.MarshalValue(v)
	if err != nil {
		return Null
	}
	return bson.RawValue{Type: t, Value: b}
}

// OfDocument is a document as a value.
func OfDocument(d bson.Raw) bson.RawValue {
	return bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: d}
}

// Lookup returns what a path leads to, by names and by numbers of elements only.
func Lookup(v bson.RawValue, path []string) (bson.RawValue, bool) {
	for _, part := range path {
		if v.Type != bson.TypeEmbeddedDocument && v.Type != bson.TypeArray {
			return v, false
		}
		var ok bool
		if v, ok = Member(v.Value, part); !ok {
			return v, false
		}
	}
	return v, true
}
