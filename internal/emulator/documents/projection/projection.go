// Package projection leaves members out of documents, as finds ask for: those that are
// named, or all others.
package projection

import (
	"encoding/binary"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Projection is one that has been read.
type Projection struct {
	include bool // only what is named stays
	named   tree
	id      bool // the _id stays
}

// tree are the named paths by their parts; one without a branch is named whole.
type tree map[string]tree

// Parse reads a projection; without members it leaves all in. Its errors are of the
// type *fault.Error.
func Parse(projection bson.Raw) (*Projection, error) {
	p := &Projection{named: tree{}, id: true}
	if len(projection) == 0 {
		return p, nil
	}
	if err := value.Validate(projection); err != nil {
		return nil, fault.FailedToParse("the projection is no valid document: %v", err)
	}
	mode := "" // of the members but _id
	var problem error
	value.Elements(projection, func(name string, v bson.RawValue) bool {
		in, err := included(name, v)
		if err != nil {
			problem = err
			return false
		}
		if name == "_id" {
			p.id = in
			return true
		}
		now := map[bool]string{true: "inclusion", false: "exclusion"}[in]
		if mode != "" && mode != now {
			code := map[bool]int32{true: 31253, false: 31254}[in]
			problem = &fault.Error{Code: code, Name: "Location" + strconv.Itoa(int(code)), Message: "Cannot do " + now + " on field " + name + " in " + mode + " projection"}
			return false
		}
		mode = now
		problem = p.named.add(strings.Split(name, "."), name)
		return problem == nil
	})
	// The _id alone, kept, is all that stays.
	_, alone := value.Member(projection, "_id")
	p.include = mode == "inclusion" || mode == "" && alone && p.id
	return p, problem
}

// included reports whether a member is to stay.
func included(name string, v bson.RawValue) (bool, error) {
	switch value.ClassOf(v.Type) {
	case value.ClassBoolean:
		return v.Value[0] != 0, nil
	case value.ClassNumber:
		n, whole := value.Integer(v)
		return !whole || n != 0, nil
	}
	return false, fault.NotImplemented("the projection of %s by %s is not here; 0 and 1 are", name, value.String(v))
}

func (t tree) add(path []string, whole string) error {
	for i, part := range path {
		switch {
		case part == "" || strings.HasPrefix(part, "$"):
			return fault.NotImplemented("the projection of %s is not here", whole)
		case i == len(path)-1 && t[part] != nil, t[part] != nil && len(t[part]) == 0:
			return &fault.Error{Code: 31250, Name: "Location31250", Message: "Path collision at " + whole}
		}
		if t[part] == nil {
			t[part] = tree{}
		}
		t = t[part]
	}
	return nil
}

// Apply returns what stays of a document.
func (p *Projection) Apply(d bson.Raw) bson.Raw {
	if !p.include && len(p.named) == 0 && p.id {
		return d
	}
	out := make([]byte, 4, len(d))
	value.Elements(d, func(name string, v bson.RawValue) bool {
		if name == "_id" {
			if p.id {
				out = member(out, name, v)
			}
			return true
		}
		if v, stays := p.one(p.named, name, v); stays {
			out = member(out, name, v)
		}
		return true
	})
	return finish(out)
}

// one returns what stays of a member, and whether anything does.
func (p *Projection) one(named tree, name string, v bson.RawValue) (bson.RawValue, bool) {
	branch, is := named[name]
	switch {
	case !is:
		return v, !p.include
	case len(branch) == 0:
		return v, p.include
	}
	return p.within(branch, v)
}

// within applies what is named below a member to its value: to a document, and to those
// in an array. Of other values nothing stays if only what is named does.
func (p *Projection) within(branch tree, v bson.RawValue) (bson.RawValue, bool) {
	out := make([]byte, 4, len(v.Value))
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		value.Elements(v.Value, func(name string, m bson.RawValue) bool {
			if m, stays := p.one(branch, name, m); stays {
				out = member(out, name, m)
			}
			return true
		})
	case bson.TypeArray:
		n := 0
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
			if e, stays := p.within(branch, e); stays {
				out = member(out, strconv.Itoa(n), e)
				n++
			}
			return true
		})
	default:
		return v, !p.include
	}
	return bson.RawValue{Type: v.Type, Value: finish(out)}, true
}

func member(out []byte, name string, v bson.RawValue) []byte {
	return append(append(append(append(out, byte(v.Type)), name...), 0), v.Value...)
}

func finish(out []byte) []byte {
	out = append(out, 0)
	binary.LittleEndian.PutUint32(out, uint32(len(out)))
	return out
}
