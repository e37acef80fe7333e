package value

import (
	"encoding/binary"
	"math"
	"math/big"
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Key returns bytes that stand in the order of the values: comparing two keys gives
// what Compare gives. No key is the beginning of another, so that several can be
// joined.
func Key(v bson.RawValue) []byte { return (*Collation)(nil).AppendKey(nil, v) }

// AppendKey appends the key of a value.
func (c *Collation) AppendKey(key []byte, v bson.RawValue) []byte {
	class := ClassOf(v.Type)
	return c.appendPayload(append(key, byte(class)), class, v)
}

func (c *Collation) appendPayload(key []byte, class Class, v bson.RawValue) []byte {
	switch class {
	case ClassNumber:
		return appendNumber(key, numberOf(v))
	case ClassString:
		if c != nil {
			return appendText(key, c.text(text(v)))
		}
		return appendText(key, text(v))
	case ClassObject:
		for rest := members(v.Value); ; {
			e, after, more := next(rest)
			if !more {
				return append(key, 0)
			}
			class := ClassOf(e.value.Type)
			key = c.appendPayload(appendText(append(key, byte(class)), e.name), class, e.value)
			rest = after
		}
	case ClassArray:
		for rest := members(v.Value); ; {
			e, after, more := next(rest)
			if !more {
				return append(key, 0)
			}
			key = c.AppendKey(key, e.value)
			rest = after
		}
	case ClassBinary:
		kind, data := binaryOf(v)
		return append(append(binary.BigEndian.AppendUint32(key, uint32(len(data))), kind), data...)
	case ClassObjectID, ClassBoolean:
		return append(key, v.Value...)
	case ClassDate:
		return binary.BigEndian.AppendUint64(key, binary.LittleEndian.Uint64(v.Value)^1<<63)
	case ClassTimestamp:
		return binary.BigEndian.AppendUint64(key, binary.LittleEndian.Uint64(v.Value))
	case ClassRegex:
		pattern, options := v.Regex()
		return appendText(appendText(key, []byte(pattern)), []byte(options))
	case ClassPointer:
		n := len(v.Value) - 12
		return append(appendText(key, v.Value[4:n-1]), v.Value[n:]...)
	case ClassCode:
		return appendText(key, text(v))
	case ClassScopedCode:
		code := v.Value[4:]
		n := 4 + int(binary.LittleEndian.Uint32(code))
		key = appendText(key, code[4:n-1])
		return c.appendPayload(key, ClassObject, bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: code[n:]})
	}
	return key
}

// appendText appends a text so that a shorter one comes before one that it begins.
func appendText(key, text []byte) []byte {
	for _, b := range text {
		if key = append(key, b); b == 0 {
			key = append(key, 0xff)
		}
	}
	return append(key, 0, 0)
}

// The first byte of a number.
const (
	notANumber byte = iota + 1
	aNumber
)

// leastDecimal is smaller than every finite decimal128.
var leastDecimal = scaled(big.NewInt(-1), 6145)

// appendNumber appends the nearest float64 that is not larger, and what is left to
// the number itself: nothing for most.
func appendNumber(key []byte, n number) []byte {
	if !n.isInt && n.exact == nil {
		if math.IsNaN(n.float) {
			return append(key, notANumber)
		}
		return append(appendFloat(append(key, aNumber), n.float), 0)
	}
	if n.isInt && n.int > -1<<53 && n.int < 1<<53 {
		return append(appendFloat(append(key, aNumber), float64(n.int)), 0)
	}
	exact, _ := n.finite()
	floor := floorOf(exact)
	from := leastDecimal
	if !math.IsInf(floor, -1) {
		from = new(big.Rat).SetFloat64(floor)
	}
	rest := new(big.Rat).Sub(exact, from)
	key = appendFloat(append(key, aNumber), floor)
	if rest.Sign() == 0 {
		return append(key, 0)
	}
	return appendPositive(append(key, 1), rest)
}

// floorOf returns the largest float64 that is not larger than a number: a finite one,
// if there is one.
func floorOf(r *big.Rat) float64 {
	f, exact := r.Float64()
	switch {
	case exact:
		return f
	case math.IsInf(f, 1):
		return math.MaxFloat64
	case math.IsInf(f, -1): // smaller than all that are finite
		return f
	case new(big.Rat).SetFloat64(f).Cmp(r) > 0:
		return math.Nextafter(f, math.Inf(-1))
	}
	return f
}

// appendFloat appends a float64 so that bytes are in its order; -0 is 0.
func appendFloat(key []byte, f float64) []byte {
	bits := math.Float64bits(f + 0)
	if f == 0 {
		bits = 0
	}
	if bits>>63 == 1 {
		bits = ^bits
	} else {
		bits |= 1 << 63
	}
	return binary.BigEndian.AppendUint64(key, bits)
}

// appendPositive appends a number above 0 that has an end in decimal digits: how many
// places it has before the point, and its digits.
func appendPositive(key []byte, r *big.Rat) []byte {
	// 2^a·5^b is the denominator, so that so many digits behind the point are all.
	places := r.Denom().BitLen() + 1
	scaled := new(big.Int).Mul(r.Num(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(places)), nil))
	digits := scaled.Quo(scaled, r.Denom()).String()
	key = binary.BigEndian.AppendUint32(key, uint32(1<<31+len(digits)-places))
	for len(digits) > 1 && digits[len(digits)-1] == '0' {
		digits = digits[:len(digits)-1]
	}
	key = append(key, digits...)
	return append(key, 0)
}

// Integer returns a number that is a whole one and fits into 64 bits, and whether v
// is that.
func Integer(v bson.RawValue) (int64, bool) {
	if ClassOf(v.Type) != ClassNumber {
		return 0, false
	}
	n := numberOf(v)
	switch {
	case n.isInt:
		return n.int, true
	case n.exact != nil:
		return n.exact.Num().Int64(), n.exact.IsInt() && n.exact.Num().IsInt64()
	case n.float != math.Trunc(n.float) || n.float < -1<<63 || n.float >= 1<<63:
		return 0, false
	}
	return int64(n.float), true
}

// Name returns the name that the protocol gives to a type ("$type"), and "" for none.
func Name(t bson.Type) string {
	names := map[bson.Type]string{bson.TypeDouble: "double", bson.TypeString: "string", bson.TypeEmbeddedDocument: "object", bson.TypeArray: "array", bson.TypeBinary: "binData",
		bson.TypeUndefined: "undefined", bson.TypeObjectID: "objectId", bson.TypeBoolean: "bool", bson.TypeDateTime: "date", bson.TypeNull: "null", bson.TypeRegex: "regex",
		bson.TypeDBPointer: "dbPointer", bson.TypeJavaScript: "javascript", bson.TypeSymbol: "symbol", bson.TypeCodeWithScope: "javascriptWithScope", bson.TypeInt32: "int",
		bson.TypeTimestamp: "timestamp", bson.TypeInt64: "long", bson.TypeDecimal128: "decimal", bson.TypeMinKey: "minKey", bson.TypeMaxKey: "maxKey"}
	return names[t]
}

// String writes a value as relaxed extended JSON, for messages.
func String(v bson.RawValue) string {
	if v.Type == bson.TypeString {
		return strconv.Quote(v.StringValue())
	}
	return v.String()
}
