package update

import (
	"fmt"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

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
		all := value.Members(v.Value)
		for i := range all {
			if all[i].Name != path[0] {
				continue
			}
			now, keep, err := step(all[i].Value, path[1:], whole, create, do)
			switch {
			case err != nil:
				return v, true, err
			case keep:
				all[i].Value = now
			default:
				all = append(all[:i], all[i+1:]...)
			}
			return value.Assemble(v.Type, all), true, nil
		}
		made, keep, err := build(path[1:], create, do)
		if err != nil || !keep {
			return v, true, err
		}
		return value.Assemble(v.Type, append(all, value.Named{Name: path[0], Value: made})), true, nil
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
	all := value.Members(v.Value)
	if int(n) < len(all) {
		now, keep, err := step(all[n].Value, path[1:], whole, create, do)
		if err != nil {
			return v, true, err
		}
		if !keep {
			now = value.Null
		}
		all[n].Value = now
		return value.Assemble(v.Type, all), true, nil
	}
	made, keep, err := build(path[1:], create, do)
	if err != nil || !keep {
		return v, true, err
	}
	if n > mostElements {
		return v, true, fault.BadValue("an array of %d elements would be too long", n)
	}
	for len(all) < int(n) {
		all = append(all, value.Named{Value: value.Null})
	}
	return value.Assemble(v.Type, append(all, value.Named{Value: made})), true, nil
}

// build makes the documents on the way to a value that isn't there.
func build(path []string, create bool, do edit) (made bson.RawValue, keep bool, err error) {
	made, keep, err = do(bson.RawValue{}, false)
	if err != nil || !keep || !create {
		return made, keep && create, err
	}
	for i := len(path) - 1; i >= 0; i-- {
		made = value.Assemble(bson.TypeEmbeddedDocument, []value.Named{{Name: path[i], Value: made}})
	}
	return made, true, nil
}
