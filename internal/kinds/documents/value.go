package documents

import (
	"encoding/hex"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/core/data/store"
	"neighbour/internal/emulator/documents/value"
)

func typeName(v bson.RawValue) string { return value.Name(v.Type) }

// text is a value in relaxed extended JSON.
func text(v bson.RawValue) string {
	b, err := bson.MarshalExtJSON(bson.D{{Key: "v", Value: v}}, false, false)
	if err != nil {
		return v.String()
	}
	return strings.TrimSuffix(strings.TrimPrefix(string(b), `{"v":`), "}")
}

// formOf is of what sort a value is for those who look at it.
func formOf(v bson.RawValue) store.Form {
	switch value.ClassOf(v.Type) {
	case value.ClassNull, value.ClassUndefined:
		return store.Null
	case value.ClassNumber:
		return store.Number
	case value.ClassBoolean:
		return store.Truth
	case value.ClassDate, value.ClassTimestamp:
		return store.Time
	case value.ClassObject, value.ClassArray:
		return store.JSON
	case value.ClassBinary:
		return store.Binary
	}
	return store.Text
}

// valueOf is a value as it is shown; wide is how many characters of it are.
func valueOf(v bson.RawValue, wide int) store.Value {
	out := store.Value{Is: formOf(v)}
	switch v.Type {
	case bson.TypeNull, bson.TypeUndefined:
		return store.NullValue
	case bson.TypeString:
		out.Text = v.StringValue()
	case bson.TypeObjectID:
		out.Text = v.ObjectID().Hex()
	case bson.TypeDateTime:
		out.Text = v.Time().UTC().Format(time.RFC3339Nano)
	case bson.TypeBoolean:
		out.Text = strconv.FormatBool(v.Value[0] != 0)
	case bson.TypeInt32, bson.TypeInt64:
		n, _ := value.Integer(v)
		out.Text = strconv.FormatInt(n, 10)
	case bson.TypeDouble:
		out.Text = strconv.FormatFloat(v.Double(), 'g', -1, 64)
	case bson.TypeDecimal128:
		out.Text = v.Decimal128().String()
	case bson.TypeBinary:
		_, data := v.Binary()
		cut := len(data) > wide/2
		out.Text, out.Cut = hex.EncodeToString(data[:min(len(data), max(wide/2, 1))]), cut
		return out
	default:
		out.Text = text(v)
	}
	if r := []rune(out.Text); len(r) > wide {
		out.Text, out.Cut = string(r[:wide]), true
	}
	return out
}

// keyOf is a document's _id as a key: in canonical extended JSON, so that no type is lost.
func keyOf(d bson.Raw) string {
	b, err := bson.MarshalExtJSON(bson.D{{Key: "_id", Value: d.Lookup("_id")}}, true, false)
	if err != nil {
		return ""
	}
	return store.KeyFor(string(b))
}

// idOf is the _id of a key.
func idOf(key string) (id bson.RawValue, err error) {
	written, err := store.TextOfKey(key)
	if err != nil {
		return id, err
	}
	var d bson.Raw
	if d, err = document(written); err != nil {
		return id, err
	}
	return d.LookupErr("_id")
}

// inWords is a key as people read it.
func inWords(key string) string {
	id, err := idOf(key)
	if err != nil {
		return key
	}
	return valueOf(id, 100).Text
}

// document reads a document in extended JSON.
func document(written string) (bson.Raw, error) {
	var d bson.D
	if err := bson.UnmarshalExtJSON([]byte(written), false, &d); err != nil {
		return nil, &store.AnswerError{Message: "a document in JSON is expected: " + strings.TrimPrefix(err.Error(), "invalid JSON input: ")}
	}
	return bson.Marshal(d)
}

// written reads a value that somebody typed: in extended JSON if it is that, or else as a
// text. Where a text was, it is one.
func written(typed string, was bson.RawValue) (bson.RawValue, error) {
	if was.Type != bson.TypeString && (json.Valid([]byte(typed))) {
		d, err := document(`{"v": ` + typed + `}`)
		if err != nil {
			return was, err
		}
		return d.Lookup("v"), nil
	}
	switch was.Type {
	case bson.TypeDateTime:
		if t, err := time.Parse(time.RFC3339Nano, typed); err == nil {
			return value.Of(t), nil
		}
	case bson.TypeObjectID:
		if id, err := bson.ObjectIDFromHex(typed); err == nil {
			return value.Of(id), nil
		}
	case bson.TypeDecimal128:
		if n, err := bson.ParseDecimal128(typed); err == nil {
			return value.Of(n), nil
		}
	}
	return value.Of(typed), nil
}
