package query

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Sort is what documents are sorted by, the most important first.
type Sort []SortPart

// SortPart is a path by which documents are sorted.
type SortPart struct {
	Path []string
	Down bool
}

// ParseSort reads paths with 1 or -1. Its errors are of the type *fault.Error.
func ParseSort(sort bson.Raw) (Sort, error) {
	if len(sort) == 0 {
		return nil, nil
	}
	if err := value.Validate(sort); err != nil {
		return nil, fault.FailedToParse("the sort is no valid document: %v", err)
	}
	var out Sort
	var problem error
	value.Elements(sort, func(name string, v bson.RawValue) bool {
		n, ok := value.Integer(v)
		switch {
		case v.Type == bson.TypeEmbeddedDocument:
			problem = fault.NotImplemented("a sort by %s is not here", value.String(v))
		case !ok || n != 1 && n != -1:
			problem = fault.BadValue("$sort key ordering must be 1 (for ascending) or -1 (for descending)")
		case name == "" || strings.HasPrefix(name, ".") || strings.HasSuffix(name, ".") || strings.Contains(name, ".."):
			problem = fault.BadValue("FieldPath '%s' has an empty part", name)
		case strings.HasPrefix(name, "$"):
			problem = fault.NotImplemented("a sort by %s is not here", name)
		}
		out = append(out, SortPart{strings.Split(name, "."), n < 0})
		return problem == nil
	})
	return out, problem
}

// Key returns a key in whose order documents are sorted.
func (s Sort) Key(d bson.Raw, c *value.Collation) []byte {
	var out []byte
	for _, part := range s {
		out = part.Append(out, Extreme(d, part.Path, part.Down, c), c)
	}
	return out
}

// Append appends the key of a value, in the direction of the part.
func (p SortPart) Append(key []byte, v bson.RawValue, c *value.Collation) []byte {
	at := len(key)
	key = c.AppendKey(key, v)
	if p.Down {
		for i := at; i < len(key); i++ {
			key[i] = ^key[i]
		}
	}
	return key
}
