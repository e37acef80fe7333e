package query

import (
	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// parseBits reads an operator that asks for bits of numbers and of binary values.
func (p parser) parseBits(path []string, name string, v bson.RawValue) (node, error) {
	var wanted []int
	if v.Type == bson.TypeArray {
		for _, e := range value.Items(v) {
			n, ok := value.Integer(e)
			if !ok || n < 0 || n > 1<<20 {
				return nil, fault.BadValue("bit positions must be integers >= 0")
			}
			wanted = append(wanted, int(n))
		}
	} else {
		bit, ok := bitsOf(v)
		if n, whole := value.Integer(v); !ok || whole && n < 0 {
			return nil, fault.BadValue("%s takes an Array, a number, or a BinData but received: %s", name, value.String(v))
		}
		size := 64
		if v.Type == bson.TypeBinary {
			_, data := v.Binary()
			size = len(data) * 8
		}
		for i := range size {
			if bit(i) {
				wanted = append(wanted, i)
			}
		}
	}
	set := name == "$bitsAllSet" || name == "$bitsAnySet"
	every := name == "$bitsAllSet" || name == "$bitsAllClear"
	return field{path, func(v bson.RawValue, found bool) bool {
		bit, ok := bitsOf(v)
		if !found || !ok {
			return false
		}
		for _, i := range wanted {
			if (bit(i) == set) != every {
				return !every
			}
		}
		return every
	}}, nil
}

// bitsOf tells the bits of a number that fits into 64 of them, with its sign before them,
// or of a binary value, the lowest first.
func bitsOf(v bson.RawValue) (bit func(int) bool, ok bool) {
	if v.Type == bson.TypeBinary {
		_, data := v.Binary()
		return func(i int) bool { return i/8 < len(data) && data[i/8]>>(i%8)&1 == 1 }, true
	}
	n, ok := value.Integer(v)
	return func(i int) bool { return n>>min(i, 63)&1 == 1 }, ok
}
