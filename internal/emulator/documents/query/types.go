package query

import (
	"math/big"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

type bigInt = big.Int

var bigTen = big.NewInt(10)

// allTypes are the types that have a name.
var allTypes = []bson.Type{bson.TypeDouble, bson.TypeString, bson.TypeEmbeddedDocument, bson.TypeArray, bson.TypeBinary, bson.TypeUndefined, bson.TypeObjectID, bson.TypeBoolean,
	bson.TypeDateTime, bson.TypeNull, bson.TypeRegex, bson.TypeDBPointer, bson.TypeJavaScript, bson.TypeSymbol, bson.TypeCodeWithScope, bson.TypeInt32, bson.TypeTimestamp,
	bson.TypeInt64, bson.TypeDecimal128, bson.TypeMinKey, bson.TypeMaxKey}

// parseType reads the operator $type: a type's name or number, or a list of them.
func (p parser) parseType(path []string, v bson.RawValue) (node, error) {
	var types []bson.Type
	var problem error
	add := func(v bson.RawValue) bool {
		var more []bson.Type
		more, problem = typesOf(v)
		types = append(types, more...)
		return problem == nil
	}
	if v.Type == bson.TypeArray {
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool { return add(e) })
		if problem == nil && len(types) == 0 {
			problem = fault.FailedToParse("$type must match at least one type")
		}
	} else {
		add(v)
	}
	return field{path, func(v bson.RawValue, found bool) bool { return found && slices.Contains(types, v.Type) }}, problem
}

func typesOf(v bson.RawValue) ([]bson.Type, error) {
	if v.Type == bson.TypeString {
		name := v.StringValue()
		if name == "number" {
			return []bson.Type{bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128}, nil
		}
		for _, t := range allTypes {
			if value.Name(t) == name {
				return []bson.Type{t}, nil
			}
		}
		return nil, fault.BadValue("Unknown type name alias: %s", name)
	}
	n, ok := value.Integer(v)
	if !ok {
		return nil, fault.TypeMismatch("type must be represented as a number or a string")
	}
	for _, t := range allTypes {
		if int64(t) == n || n == -1 && t == bson.TypeMinKey {
			return []bson.Type{t}, nil
		}
	}
	return nil, fault.BadValue("Invalid numerical type code: %d", n)
}
