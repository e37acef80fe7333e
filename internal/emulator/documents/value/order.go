// Package value orders and tells apart the values of BSON documents: which is
// smaller, which are equal, and how one is written as a key so that keys of bytes
// stand in the same order.
//
// The order of types, and that within each, is that of the protocol's documentation
// ("Comparison/Sort Order"); the encoding of values is that of bsonspec.org, 1.1.
package value

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"math"
	"math/big"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Class is the place of a type in the order of types. Values of different classes
// are never equal; those of one class can be, although their types differ.
type Class byte

// The classes, in their order.
const (
	ClassMinKey Class = iota + 1
	ClassUndefined
	ClassNull
	ClassNumber
	ClassString
	ClassObject
	ClassArray
	ClassBinary
	ClassObjectID
	ClassBoolean
	ClassDate
	ClassTimestamp
	ClassRegex
	ClassPointer
	ClassCode
	ClassScopedCode
	ClassMaxKey
)

// ClassOf returns the class of a type.
func ClassOf(t bson.Type) Class {
	switch t {
	case bson.TypeMinKey:
		return ClassMinKey
	case bson.TypeUndefined:
		return ClassUndefined
	case bson.TypeNull, 0:
		return ClassNull
	case bson.TypeInt32, bson.TypeInt64, bson.TypeDouble, bson.TypeDecimal128:
		return ClassNumber
	case bson.TypeString, bson.TypeSymbol:
		return ClassString
	case bson.TypeEmbeddedDocument:
		return ClassObject
	case bson.TypeArray:
		return ClassArray
	case bson.TypeBinary:
		return ClassBinary
	case bson.TypeObjectID:
		return ClassObjectID
	case bson.TypeBoolean:
		return ClassBoolean
	case bson.TypeDateTime:
		return ClassDate
	case bson.TypeTimestamp:
		return ClassTimestamp
	case bson.TypeRegex:
		return ClassRegex
	case bson.TypeDBPointer:
		return ClassPointer
	case bson.TypeJavaScript:
		return ClassCode
	case bson.TypeCodeWithScope:
		return ClassScopedCode
	}
	return ClassMaxKey
}

// Null is the value null.
var Null = bson.RawValue{Type: bson.TypeNull}

// Compare returns a negative number if a comes before b, a positive one if it comes
// after it, and 0 if they are equal. Numbers of all types are compared by what they
// are, exactly; NaN equals itself and comes before all others.
func Compare(a, b bson.RawValue) int {
	class := ClassOf(a.Type)
	if d := cmp.Compare(class, ClassOf(b.Type)); d != 0 {
		return d
	}
	switch class {
	case ClassNumber:
		return compareNumbers(a, b)
	case ClassString:
		return bytes.Compare(text(a), text(b))
	case ClassObject:
		return compareMembers(a.Value, b.Value, true)
	case ClassArray:
		return compareMembers(a.Value, b.Value, false)
	case ClassBinary:
		aKind, aData := binaryOf(a)
		bKind, bData := binaryOf(b)
		return cmp.Or(cmp.Compare(len(aData), len(bData)), cmp.Compare(aKind, bKind), bytes.Compare(aData, bData))
	case ClassObjectID:
		return bytes.Compare(a.Value, b.Value)
	case ClassBoolean:
		return cmp.Compare(a.Value[0], b.Value[0])
	case ClassDate:
		return cmp.Compare(int64(binary.LittleEndian.Uint64(a.Value)), int64(binary.LittleEndian.Uint64(b.Value)))
	case ClassTimestamp:
		return cmp.Compare(binary.LittleEndian.Uint64(a.Value), binary.LittleEndian.Uint64(b.Value))
	case ClassRegex:
		aPattern, aOptions := a.Regex()
		bPattern, bOptions := b.Regex()
		return cmp.Or(cmp.Compare(aPattern, bPattern), cmp.Compare(aOptions, bOptions))
	case ClassPointer, ClassCode, ClassScopedCode:
		return bytes.Compare(Key(a), Key(b))
	}
	return 0 // there is only one of each
}

// Equal reports whether two values are equal.
func Equal(a, b bson.RawValue) bool {
	if a.Type == b.Type && bytes.Equal(a.Value, b.Value) {
		return true
	}
	return Compare(a, b) == 0
}

// text is a string's bytes.
func text(v bson.RawValue) []byte { return v.Value[4 : len(v.Value)-1] }

func binaryOf(v bson.RawValue) (kind byte, data []byte) { return v.Binary() }

// element is a member of a document, read without its being copied.
type element struct {
	name  []byte
	value bson.RawValue
}

// next cuts the first member off the members of a document that has been validated.
func next(rest []byte) (e element, after []byte, ok bool) {
	if len(rest) < 2 || rest[0] == 0 {
		return e, nil, false
	}
	end := bytes.IndexByte(rest[1:], 0) + 1
	e.name = rest[1:end]
	t := bson.Type(rest[0])
	rest = rest[end+1:]
	n := size(t, rest)
	e.value = bson.RawValue{Type: t, Value: rest[:n]}
	return e, rest[n:], true
}

// size is how many bytes a value has at the beginning of b.
func size(t bson.Type, b []byte) int {
	length := func() int { return int(int32(binary.LittleEndian.Uint32(b))) }
	switch t {
	case bson.TypeDouble, bson.TypeDateTime, bson.TypeTimestamp, bson.TypeInt64:
		return 8
	case bson.TypeString, bson.TypeJavaScript, bson.TypeSymbol:
		return 4 + length()
	case bson.TypeEmbeddedDocument, bson.TypeArray, bson.TypeCodeWithScope:
		return length()
	case bson.TypeBinary:
		return 5 + length()
	case bson.TypeObjectID:
		return 12
	case bson.TypeBoolean:
		return 1
	case bson.TypeRegex:
		pattern := bytes.IndexByte(b, 0) + 1
		return pattern + bytes.IndexByte(b[pattern:], 0) + 1
	case bson.TypeDBPointer:
		return 4 + length() + 12
	case bson.TypeInt32:
		return 4
	case bson.TypeDecimal128:
		return 16
	}
	return 0
}

// members are the bytes of a document's members.
func members(document []byte) []byte { return document[4:] }

// compareMembers compares documents, or arrays, member by member. Of those of
// documents the class and the name go before the value.
func compareMembers(a, b []byte, named bool) int {
	a, b = members(a), members(b)
	for {
		x, aRest, more := next(a)
		y, bRest, also := next(b)
		switch {
		case !more && !also:
			return 0
		case !more:
			return -1
		case !also:
			return 1
		}
		if named {
			if d := cmp.Or(cmp.Compare(ClassOf(x.value.Type), ClassOf(y.value.Type)), bytes.Compare(x.name, y.name)); d != 0 {
				return d
			}
		}
		if d := Compare(x.value, y.value); d != 0 {
			return d
		}
		a, b = aRest, bRest
	}
}

func compareNumbers(a, b bson.RawValue) int {
	x, y := numberOf(a), numberOf(b)
	switch {
	case x.isInt && y.isInt:
		return cmp.Compare(x.int, y.int)
	case !x.isInt && !y.isInt && x.exact == nil && y.exact == nil:
		return cmp.Compare(x.float, y.float) // NaN first
	}
	return x.compare(y)
}

// number is a number of any type.
type number struct {
	isInt bool
	int   int64
	float float64 // if it is none, and exact is nil
	exact *big.Rat
}

func numberOf(v bson.RawValue) number {
	switch v.Type {
	case bson.TypeInt32:
		return number{isInt: true, int: int64(int32(binary.LittleEndian.Uint32(v.Value)))}
	case bson.TypeInt64:
		return number{isInt: true, int: int64(binary.LittleEndian.Uint64(v.Value))}
	case bson.TypeDouble:
		return number{float: math.Float64frombits(binary.LittleEndian.Uint64(v.Value))}
	}
	d := v.Decimal128()
	switch {
	case d.IsNaN():
		return number{float: math.NaN()}
	case d.IsInf() != 0:
		return number{float: math.Inf(d.IsInf())}
	}
	digits, exponent, err := d.BigInt()
	if err != nil {
		return number{float: math.NaN()}
	}
	return number{exact: scaled(digits, exponent)}
}

// scaled returns digits × 10^exponent.
func scaled(digits *big.Int, exponent int) *big.Rat {
	if digits.Sign() == 0 {
		return new(big.Rat)
	}
	power := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(exponent, -exponent))), nil)
	if exponent < 0 {
		return new(big.Rat).SetFrac(digits, power)
	}
	return new(big.Rat).SetInt(power.Mul(power, digits))
}

// finite returns the number exactly, and whether it is finite.
func (n number) finite() (*big.Rat, bool) {
	switch {
	case n.exact != nil:
		return n.exact, true
	case n.isInt:
		return new(big.Rat).SetInt64(n.int), true
	case math.IsNaN(n.float) || math.IsInf(n.float, 0):
		return nil, false
	}
	return new(big.Rat).SetFloat64(n.float), true
}

func (n number) compare(o number) int {
	x, finite := n.finite()
	y, alsoFinite := o.finite()
	switch {
	case finite && alsoFinite:
		return x.Cmp(y)
	case finite: // before +Inf, after NaN and -Inf
		return cmp.Compare(0, o.float)
	case alsoFinite:
		return cmp.Compare(n.float, 0)
	}
	return cmp.Compare(n.float, o.float)
}

// Elements calls each with the elements of an array, or the values of a document, and
// their names, until that returns false. The document must have been validated.
func Elements(document []byte, each func(name string, v bson.RawValue) bool) {
	for rest := members(document); ; {
		e, after, more := next(rest)
		if !more || !each(string(e.name), e.value) {
			return
		}
		rest = after
	}
}

// Member returns a member of a document, and whether it has that.
func Member(document []byte, name string) (v bson.RawValue, ok bool) {
	for rest := members(document); ; {
		e, after, more := next(rest)
		if !more {
			return v, false
		}
		if string(e.name) == name {
			return e.value, true
		}
		rest = after
	}
}
