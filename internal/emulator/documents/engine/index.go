package engine

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Index is an index of a collection. What can be asked of it does not change.
type Index struct {
	Name string
	// Spec is the index as its client described it, with all that was left out.
	Spec bson.Raw

	id        int64 // 0 is that of the _id, which is in the collection's own table
	fields    query.Sort
	unique    bool
	sparse    bool
	partial   bson.Raw
	filter    *query.Filter // of partial
	collation *value.Collation
	text      [][]string // the paths of an index of texts, which is only that
	expires   int64      // seconds; -1: never

	// multikey says that a document has several keys, because of an array.
	multikey *atomic.Bool
}

func (i *Index) table() string { return fmt.Sprintf("i_%d", i.id) }

// primary is the index of the _id.
func primary() *Index {
	spec, _ := bson.Marshal(bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "_id", Value: int32(1)}}}, {Key: "name", Value: "_id_"}}) // never fails
	return &Index{Name: "_id_", Spec: spec, fields: query.Sort{{Path: []string{"_id"}}}, unique: true, expires: -1, multikey: &atomic.Bool{}}
}

func badIndex(format string, args ...any) *fault.Error {
	return &fault.Error{Code: 67, Name: "CannotCreateIndex", Message: fmt.Sprintf(format, args...)}
}

// ParseIndex reads an index that is to be made.
func ParseIndex(spec bson.Raw) (*Index, error) {
	if err := value.Validate(spec); err != nil {
		return nil, fault.FailedToParse("the index is no valid document: %v", err)
	}
	i := &Index{expires: -1, multikey: &atomic.Bool{}}
	key, _ := value.Member(spec, "key")
	if key.Type != bson.TypeEmbeddedDocument || len(key.Value) == 5 {
		return nil, badIndex("an index needs a key with at least one field")
	}
	var given []string
	if err := i.readKey(key, &given); err != nil {
		return nil, err
	}
	out := value.Append(value.Begin(nil), "v", value.Of(int32(2)))
	out = value.Append(out, "key", key)
	i.Name = strings.Join(given, "_")
	for _, m := range value.Members(spec) {
		if err := i.readOption(m); err != nil {
			return nil, err
		}
	}
	out = value.Append(out, "name", value.Of(i.Name))
	for _, m := range value.Members(spec) {
		switch m.Name {
		case "v", "key", "name", "ns", "background":
		default:
			if m.Value.Type != bson.TypeNull {
				out = value.Append(out, m.Name, m.Value)
			}
		}
	}
	i.Spec = value.Finish(out)
	switch {
	case i.Name == "":
		return nil, badIndex("the name of an index cannot be empty")
	case i.expires >= 0 && len(i.fields) != 1:
		return nil, badIndex("TTL indexes are single-field indexes, compound indexes do not support TTL. Index spec: %s", spec)
	case i.sparse && i.partial != nil:
		return nil, badIndex("cannot mix \"partialFilterExpression\" and \"sparse\" options")
	case i.text != nil && (i.unique || i.expires >= 0):
		return nil, badIndex("an index of texts can be neither unique nor one that expires")
	}
	return i, nil
}

func (i *Index) readKey(key bson.RawValue, given *[]string) error {
	for _, m := range value.Members(key.Value) {
		path := strings.Split(m.Name, ".")
		if slices.Contains(path, "") || len(path) > 1 && path[len(path)-1] == "$**" || strings.HasPrefix(m.Name, "$") && m.Name != "$**" {
			return badIndex("the path %q can't be indexed here", m.Name)
		}
		kind, isText := m.Value.StringValueOK()
		n, whole := value.Integer(m.Value)
		switch {
		case isText && kind == "text":
			i.text = append(i.text, path)
			*given = append(*given, m.Name, kind)
			continue
		case isText && kind == "hashed":
			*given = append(*given, m.Name, kind)
		case isText:
			return fault.NotImplemented("indexes of the kind %q are not here", kind)
		case m.Name == "$**":
			return fault.NotImplemented("wildcard indexes are not here")
		case !value.IsNumber(m.Value) || whole && n == 0:
			return badIndex("Values in v:2 index key pattern cannot be %s", value.String(m.Value))
		default:
			direction := int64(1)
			if value.Float(m.Value) < 0 {
				direction = -1
			}
			*given = append(*given, m.Name, fmt.Sprint(direction))
		}
		i.fields = append(i.fields, query.SortPart{Path: path, Down: value.Float(m.Value) < 0 && !isText})
	}
	if i.text != nil && len(i.fields) > 0 {
		return fault.NotImplemented("indexes of texts and other fields together are not here")
	}
	return nil
}

func (i *Index) readOption(m value.Named) error {
	var err error
	switch m.Name {
	case "v", "key", "background", "ns", "textIndexVersion", "default_language", "language_override", "weights":
	case "name":
		i.Name, _ = m.Value.StringValueOK()
	case "unique":
		i.unique = expression.Truth(m.Value)
	case "sparse":
		i.sparse = expression.Truth(m.Value)
	case "expireAfterSeconds":
		n := value.Float(m.Value)
		if !value.IsNumber(m.Value) || !(n >= 0 && n <= 1<<31-1) {
			return badIndex("TTL index 'expireAfterSeconds' option must be a number from 0 to 2147483647, not %s", value.String(m.Value))
		}
		i.expires = int64(n)
	case "partialFilterExpression":
		if m.Value.Type != bson.TypeEmbeddedDocument {
			return badIndex("\"partialFilterExpression\" must be an object")
		}
		i.partial = m.Value.Value
		i.filter, err = query.Parse(i.partial)
	case "collation":
		if m.Value.Type == bson.TypeEmbeddedDocument {
			i.collation, err = value.ParseCollation(m.Value.Value)
		}
	default:
		if expression.Truth(m.Value) {
			return fault.NotImplemented("the option %s of an index is not here", m.Name)
		}
	}
	return err
}

// keys returns the keys under which an index has a document, each once, and whether that
// may be several.
func (i *Index) keys(d bson.Raw) (keys [][]byte, several bool, err error) {
	if i.text != nil || i.filter != nil && !i.filter.Matches(d) {
		return nil, false, nil
	}
	keys = [][]byte{nil}
	some := false // is there
	var array []string
	for _, f := range i.fields {
		var values []bson.RawValue
		fromArray := false
		query.At(d, f.Path, func(v bson.RawValue, found bool) {
			some = some || found
			switch {
			case !found:
				v = value.Null
			case v.Type == bson.TypeArray:
				fromArray = true
				all := value.Items(v)
				if len(all) == 0 {
					all = []bson.RawValue{{Type: bson.TypeUndefined}}
				}
				values = append(values, all...)
				return
			}
			values = append(values, v)
		})
		if len(values) == 0 { // an array on the way has no documents
			values = []bson.RawValue{value.Null}
		}
		if fromArray || len(values) > 1 {
			several = true
			if array != nil && (i.unique || array[0] != f.Path[0]) {
				return nil, false, &fault.Error{Code: 171, Name: "CannotIndexParallelArrays", Message: fmt.Sprintf("cannot index parallel arrays [%s] [%s]", strings.Join(f.Path, "."), strings.Join(array, "."))}
			}
			array = f.Path
		}
		var longer [][]byte
		for _, k := range keys {
			for _, v := range values {
				longer = append(longer, f.Append(bytes.Clone(k), v, i.collation))
			}
		}
		if keys = longer; len(keys) > 1_000_000 {
			return nil, false, fault.BadValue("a document can't have more than 1,000,000 keys in an index")
		}
	}
	if i.sparse && !some {
		return nil, false, nil
	}
	slices.SortFunc(keys, bytes.Compare)
	return slices.CompactFunc(keys, bytes.Equal), several, nil
}

// duplicate says that another document has the key.
func (i *Index) duplicate(s Space, d bson.Raw) *WriteError {
	pattern, _ := value.Member(i.Spec, "key")
	at, words := value.Begin(nil), ""
	for n, f := range i.fields {
		v := value.Null
		query.At(d, f.Path, func(found bson.RawValue, ok bool) {
			if ok && v.Type == bson.TypeNull {
				v = found
			}
		})
		name := strings.Join(f.Path, ".")
		at = value.Append(at, name, v)
		if n > 0 {
			words += ","
		}
		words += " " + name + ": " + value.String(v)
	}
	return &WriteError{Err: &fault.Error{Code: 11000, Name: "DuplicateKey", Message: fmt.Sprintf("E11000 duplicate key error collection: %s index: %s dup key: {%s }", s, i.Name, words)}, Pattern: pattern.Value, Value: value.Finish(at)}
}
