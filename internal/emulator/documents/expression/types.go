package expression

import (
	"errors"
	"math"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

var typeOperators = map[string]operator{
	"$type":     {1, 1, func(_ *call, a []bson.RawValue) (bson.RawValue, error) { return value.Of(typeName(a[0])), nil }},
	"$isNumber": {1, 1, func(_ *call, a []bson.RawValue) (bson.RawValue, error) { return value.Of(value.IsNumber(a[0])), nil }},
	"$toString": {1, 1, conversion("string")}, "$toInt": {1, 1, conversion("int")}, "$toLong": {1, 1, conversion("long")}, "$toDouble": {1, 1, conversion("double")},
	"$toDecimal": {1, 1, conversion("decimal")}, "$toBool": {1, 1, conversion("bool")}, "$toDate": {1, 1, conversion("date")}, "$toObjectId": {1, 1, conversion("objectId")},
}

func conversion(to string) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(_ *call, a []bson.RawValue) (bson.RawValue, error) {
		if null(a[0]) {
			return value.Null, nil
		}
		return convert(a[0], to)
	}
}

func convertWith(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	to, ok := a["to"].StringValueOK()
	if n, whole := value.Integer(a["to"]); whole {
		to, ok = value.Name(bson.Type(n)), n > 0 && n < 128
	}
	switch {
	case !ok:
		return a["to"], c.wrong(a["to"], "the name or the number of a type")
	case null(a["input"]):
		return orNull(a["onNull"]), nil
	}
	v, err := convert(a["input"], to)
	if or, given := a["onError"]; err != nil && given {
		return or, nil
	}
	return v, err
}

func unconvertible(v bson.RawValue, to string, why error) error {
	return &fault.Error{Code: 241, Name: "ConversionFailure", Message: "Failed to convert " + value.String(v) + " to " + to + " in $convert: " + why.Error()}
}

var errUnsupported = errors.New("there is no such conversion")

func convert(v bson.RawValue, to string) (bson.RawValue, error) {
	if typeName(v) == to {
		return v, nil
	}
	out, err := converted(v, to)
	if err != nil {
		return v, unconvertible(v, to, err)
	}
	return value.Of(out), nil
}

func converted(v bson.RawValue, to string) (any, error) {
	switch to {
	case "bool":
		return Truth(v), nil
	case "string":
		return textOf(v)
	case "int", "long":
		return toInteger(v, to)
	case "double":
		return toDouble(v)
	case "decimal":
		if text, ok := v.StringValueOK(); ok {
			return bson.ParseDecimal128(text)
		}
		if v.Type == bson.TypeBoolean {
			return bson.ParseDecimal128(strconv.Itoa(int(v.Value[0])))
		}
		if v.Type == bson.TypeDouble {
			return bson.ParseDecimal128(strconv.FormatFloat(v.Double(), 'g', 15, 64))
		}
		if value.IsNumber(v) {
			return bson.ParseDecimal128(numeral(v))
		}
		if v.Type == bson.TypeDateTime {
			return bson.ParseDecimal128(strconv.FormatInt(v.DateTime(), 10))
		}
	case "date":
		switch {
		case v.Type == bson.TypeString:
			return parseDate(v.StringValue(), time.UTC)
		case v.Type == bson.TypeObjectID:
			return v.ObjectID().Timestamp(), nil
		case v.Type == bson.TypeTimestamp:
			seconds, _ := v.Timestamp()
			return time.Unix(int64(seconds), 0), nil
		case value.IsNumber(v) && v.Type != bson.TypeInt32:
			return bson.DateTime(int64(value.Float(v))), nil
		}
	case "objectId":
		if text, ok := v.StringValueOK(); ok {
			return bson.ObjectIDFromHex(text)
		}
	}
	return nil, errUnsupported
}

func textOf(v bson.RawValue) (string, error) {
	switch v.Type {
	case bson.TypeString:
		return v.StringValue(), nil
	case bson.TypeBoolean:
		return strconv.FormatBool(v.Value[0] != 0), nil
	case bson.TypeObjectID:
		return v.ObjectID().Hex(), nil
	case bson.TypeDateTime:
		return v.Time().UTC().Format("2006-01-02T15:04:05.000Z"), nil
	case bson.TypeDouble:
		f := v.Double()
		switch {
		case math.IsNaN(f):
			return "NaN", nil
		case math.IsInf(f, 0):
			return strings.TrimPrefix(strconv.FormatFloat(f, 'g', -1, 64), "+") + "inity", nil
		}
		return strconv.FormatFloat(f, 'g', -1, 64), nil
	case bson.TypeInt32, bson.TypeInt64, bson.TypeDecimal128:
		return numeral(v), nil
	}
	return "", errUnsupported
}

func toInteger(v bson.RawValue, to string) (any, error) {
	var n int64
	switch {
	case v.Type == bson.TypeString:
		var err error
		if n, err = strconv.ParseInt(v.StringValue(), 10, 64); err != nil {
			return nil, err
		}
	case v.Type == bson.TypeBoolean:
		n = int64(v.Value[0])
	case v.Type == bson.TypeDateTime && to == "long":
		n = v.DateTime()
	case value.IsNumber(v):
		var whole bool
		if n, whole = value.Integer(v); !whole {
			f := math.Trunc(value.Float(v))
			if math.IsNaN(f) || f < math.MinInt64 || f >= math.MaxInt64 {
				return nil, strconv.ErrRange
			}
			n = int64(f)
		}
	default:
		return nil, errUnsupported
	}
	if to == "int" {
		if n < math.MinInt32 || n > math.MaxInt32 {
			return nil, strconv.ErrRange
		}
		return int32(n), nil
	}
	return n, nil
}

func toDouble(v bson.RawValue) (any, error) {
	switch {
	case v.Type == bson.TypeString:
		return strconv.ParseFloat(v.StringValue(), 64)
	case v.Type == bson.TypeBoolean:
		return float64(v.Value[0]), nil
	case v.Type == bson.TypeDateTime:
		return float64(v.DateTime()), nil
	case value.IsNumber(v):
		return value.Float(v), nil
	}
	return nil, errUnsupported
}
