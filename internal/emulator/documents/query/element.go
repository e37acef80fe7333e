package query

import (
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/value"
)

// ParseElement reads what is meant of an array's elements, as $pull has it: operators,
// a filter of documents, or a value.
func ParseElement(v bson.RawValue) (*Element, error) {
	if v.Type == bson.TypeEmbeddedDocument && !operators(v.Value) {
		n, err := parser{failed: &atomic.Pointer[error]{}}.parse(v.Value)
		return &Element{n, true}, err
	}
	n, err := parser{failed: &atomic.Pointer[error]{}}.parseField(nil, v)
	return &Element{n, false}, err
}

// Element is a condition of an array's elements.
type Element struct {
	node      node
	documents bool // only those can meet it
}

// Matches reports whether an element meets the condition.
func (e *Element) Matches(v bson.RawValue) bool {
	return (!e.documents || value.ClassOf(v.Type) == value.ClassObject) && e.node.matches(v)
}
