package documents

import (
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
	"neighbour/internal/emulator/documents/wire"
)

// command is a command with what belongs to it.
type command struct {
	name     string
	database string
	document bson.Raw
	sections map[string][]bson.Raw

	conn        *conn
	session     *session            // of a transaction
	transaction *engine.Transaction // that it is a part of, nil for none
}

func commandOf(q *wire.Request, on *conn) *command {
	c := &command{conn: on, database: q.Database, document: q.Command, sections: q.Sections}
	value.Elements(q.Command, func(name string, _ bson.RawValue) bool { c.name = name; return false })
	return c
}

// everywhere are the names that every command may have.
var everywhere = []string{"$db", "lsid", "$clusterTime", "$readPreference", "readConcern", "writeConcern", "comment", "maxTimeMS", "apiVersion", "apiStrict", "apiDeprecationErrors", "let", "txnNumber", "autocommit", "startTransaction", "stmtId", "stmtIds", "$audit", "$client", "$configServerState"}

// only makes sure that a command has no names but these, so that nothing that is asked
// for is passed over in silence. Absent are those that the protocol has and that are not
// here.
func (c *command) only(known, absent string) error {
	var problem error
	here, missing := strings.Fields(known), strings.Fields(absent)
	value.Elements(c.document, func(name string, v bson.RawValue) bool {
		switch {
		case name == c.name || slices.Contains(everywhere, name) || slices.Contains(here, name):
			return true
		case slices.Contains(missing, name):
			if empty(v) {
				return true
			}
			problem = fault.NotImplemented("%s of %s is not here", name, c.name)
		default:
			problem = &fault.Error{Code: 40415, Name: "Location40415", Message: "BSON field '" + c.name + "." + name + "' is an unknown field."}
		}
		return false
	})
	return problem
}

// empty reports whether a value asks for nothing.
func empty(v bson.RawValue) bool {
	switch v.Type {
	case bson.TypeNull, bson.TypeUndefined:
		return true
	case bson.TypeBoolean:
		return v.Value[0] == 0
	case bson.TypeEmbeddedDocument, bson.TypeArray:
		return len(v.Value) == 5
	}
	return false
}

func (c *command) lookup(name string) (bson.RawValue, bool) { return value.Member(c.document, name) }

// collection is the one that the command's first member names.
func (c *command) collection() (string, error) {
	v, _ := c.lookup(c.name)
	name, ok := v.StringValueOK()
	if !ok {
		return "", &fault.Error{Code: 73, Name: "InvalidNamespace", Message: "collection name has invalid type " + value.Name(v.Type)}
	}
	return name, nil
}

// part returns a document, nil if it isn't there.
func (c *command) part(name string) (bson.Raw, error) {
	v, ok := c.lookup(name)
	if !ok || v.Type == bson.TypeNull {
		return nil, nil
	}
	if v.Type != bson.TypeEmbeddedDocument {
		return nil, c.mistyped(name, v, "object")
	}
	return bson.Raw(v.Value), nil
}

func (c *command) mistyped(name string, v bson.RawValue, wanted string) error {
	return fault.TypeMismatch("BSON field '%s.%s' is the wrong type '%s', expected type '%s'", c.name, name, value.Name(v.Type), wanted)
}

// number returns a whole number, or what it is without one.
func (c *command) number(name string, or int64) (int64, error) {
	v, ok := c.lookup(name)
	if !ok || v.Type == bson.TypeNull {
		return or, nil
	}
	n, ok := value.Integer(v)
	if !ok {
		return 0, c.mistyped(name, v, "long")
	}
	return n, nil
}

// truth returns a truth, or what it is without one.
func (c *command) truth(name string, or bool) (bool, error) {
	v, ok := c.lookup(name)
	if !ok {
		return or, nil
	}
	switch value.ClassOf(v.Type) {
	case value.ClassBoolean:
		return v.Value[0] != 0, nil
	case value.ClassNumber:
		n, whole := value.Integer(v)
		return !whole || n != 0, nil
	}
	return false, c.mistyped(name, v, "bool")
}

// list returns documents that the command has, in it or in a section.
func (c *command) list(name string) ([]bson.Raw, error) {
	if all, ok := c.sections[name]; ok {
		return all, nil
	}
	v, ok := c.lookup(name)
	if !ok {
		return nil, &fault.Error{Code: 40414, Name: "Location40414", Message: "BSON field '" + c.name + "." + name + "' is missing but a required field"}
	}
	if v.Type != bson.TypeArray {
		return nil, c.mistyped(name, v, "array")
	}
	var out []bson.Raw
	var problem error
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		if e.Type != bson.TypeEmbeddedDocument {
			problem = c.mistyped(name, e, "object")
			return false
		}
		out = append(out, bson.Raw(e.Value))
		return true
	})
	if problem == nil && len(out) == 0 {
		problem = &fault.Error{Code: 16, Name: "InvalidLength", Message: "Write batch sizes must be between 1 and 100000. Got 0 operations."}
	}
	return out, problem
}

// sub is a part of a command as one of its own, to be read in the same way.
func sub(name string, document bson.Raw) *command { return &command{name: name, document: document} }
