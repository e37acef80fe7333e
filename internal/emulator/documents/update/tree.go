package update

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// member is a member of a document, or an element of an array, whose name is its
// number.
type member struct {
	name  string
	value bson.RawValue
}

// membersOf reads a document or an array.
func membersOf(v bson.RawValue) []member {
	var out []member
	value.Elements(v.Value, func(name string, v bson.RawValue) bool {
		out = append(out, member{name, v})
		return true
	})
	return out
}

// assemble writes a document, or an array, of its members.
func assemble(t bson.Type, all []member) bson.RawValue {
	out := make([]byte, 4, 64)
	for i, m := range all {
		name := m.name
		if t == bson.TypeArray {
			name = strconv.Itoa(i)
		}
		out = append(append(append(append(out, byte(m.value.Type)), name...), 0), m.value.Value...)
	}
	out = append(out, 0)
	binary.LittleEndian.PutUint32(out, uint32(len(out)))
	return bson.RawValue{Type: t, Value: out}
}

// edit is what becomes of a value; found says that there was one. With keep false
// there is none any more.
type edit func(old bson.RawValue, found bool) (now bson.RawValue, keep bool, err error)

// mostElements is how long an array may become by a number that is beyond its end.
const mostElements = 1_500_000

// change edits what a path leads to, and makes what is missing on the way to it if
// create is true. An element that is taken away leaves null.
func change(v bson.RawValue, path []string, create bool, do edit) (bson.RawValue, error) {
	now, _, err := step(v, path, path, create, do)
	return now, err
}

func step(v bson.RawValue, path, whole []string, create bool, do edit) (now bson.RawValue, keep bool, err error) {
	if len(path) == 0 {
		return do(v, true)
	}
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		all := membersOf(v)
		for i := range all {
			if all[i].name != path[0] {
				continue
			}
			now, keep, err := step(all[i].value, path[1:], whole, create, do)
			switch {
			case err != nil:
				return v, true, err
			case keep:
				all[i].value = now
			default:
				all = append(all[:i], all[i+1:]...)
			}
			return assemble(v.Type, all), true, nil
		}
		made, keep, err := build(path[1:], create, do)
		if err != nil || !keep {
			return v, true, err
		}
		return assemble(v.Type, append(all, member{path[0], made})), true, nil
	case bson.TypeArray:
		return stepArray(v, path, whole, create, do)
	}
	if !create {
		return v, true, nil
	}
	return v, true, &fault.Error{Code: 28, Name: "PathNotViable", Message: fmt.Sprintf("Cannot create field '%s' in element {%s: %s}", path[0], strings.Join(whole[:len(whole)-len(path)], "."), value.String(v))}
}

func stepArray(v bson.RawValue, path, whole []string, create bool, do edit) (now bson.RawValue, keep bool, err error) {
	n, numErr := strconv.ParseUint(path[0], 10, 31)
	if numErr != nil || strconv.FormatUint(n, 10) != path[0] {
		if !create {
			return v, true, nil
		}
		return v, true, &fault.Error{Code: 28, Name: "PathNotViable", Message: fmt.Sprintf("Cannot create field '%s' in element {%s: %s}", path[0], strings.Join(whole[:len(whole)-len(path)], "."), value.String(v))}
	}
	all := membersOf(v)
	if int(n) < len(all) {
		now, keep, err := step(all[n].value, path[1:], whole, create, do)
		if err != nil {
			return v, true, err
		}
		if !keep {
			now = value.Null
		}
		all[n].value = now
		return assemble(v.Type, all), true, nil
	}
	made, keep, err := build(path[1:], create, do)
	if err != nil || !keep {
		return v, true, err
	}
	if n > mostElements {
		return v, true, fault.BadValue("an array of %d elements would be too long", n)
	}
	for len(all) < int(n) {
		all = append(all, member{value: value.Null})
	}
	return assemble(v.Type, append(all, member{value: made})), true, nil
}

// build makes the documents on the way to a value that isn't there.
func build(path []string, create bool, do edit) (made bson.RawValue, keep bool, err error) {
	made, keep, err = do(bson.RawValue{}, false)
	if err != nil || !keep || !create {
		return made, keep && create, err
	}
	for i := len(path) - 1; i >= 0; i-- {
		made = assemble(bson.TypeEmbeddedDocument, []member{{path[i], made}})
	}
	return made, true, nil
}

// lookup returns what a path leads to, by names and by numbers of elements only.
func lookup(v bson.RawValue, path []string) (bson.RawValue, bool) {
	for _, part := range path {
		if v.Type != bson.TypeEmbeddedDocument && v.Type != bson.TypeArray {
			return v, false
		}
		var ok bool
		if v, ok = value.Member(v.Value, part); !ok {
			return v, false
		}
	}
	return v, true
}
