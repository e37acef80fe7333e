package update

import (
	"math"
	"math/big"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

func number(v bson.RawValue) bool { return value.ClassOf(v.Type) == value.ClassNumber }

// rawOf makes a value of a Go value.
func rawOf(v any) bson.RawValue {
	t, b, err := bson.MarshalValue(v)
	if err != nil {
		return value.Null // of numbers, texts and times it never fails
	}
	return bson.RawValue{Type: t, Value: b}
}

// combine adds two numbers, or multiplies them. The result is of the wider of their
// types; whole numbers that don't fit into 32 bits become ones of 64.
func combine(operator string, a, b bson.RawValue) (bson.RawValue, error) {
	switch {
	case a.Type == bson.TypeDecimal128 || b.Type == bson.TypeDecimal128:
		return combineDecimals(operator, a, b)
	case a.Type == bson.TypeDouble || b.Type == bson.TypeDouble:
		x, y := float(a), float(b)
		if operator == "$inc" {
			return rawOf(x + y), nil
		}
		return rawOf(x * y), nil
	}
	x, _ := value.Integer(a)
	y, _ := value.Integer(b)
	sum := new(big.Int).SetInt64(x)
	if operator == "$inc" {
		sum.Add(sum, big.NewInt(y))
	} else {
		sum.Mul(sum, big.NewInt(y))
	}
	switch n := sum.Int64(); {
	case !sum.IsInt64():
		return a, fault.BadValue("Failed to apply %s operations to current value (%s): the result does not fit into 64 bits", operator, value.String(a))
	case a.Type == bson.TypeInt32 && b.Type == bson.TypeInt32 && n >= math.MinInt32 && n <= math.MaxInt32:
		return rawOf(int32(n)), nil
	default:
		return rawOf(n), nil
	}
}

func float(v bson.RawValue) float64 {
	if v.Type == bson.TypeDouble {
		return v.Double()
	}
	n, _ := value.Integer(v)
	return float64(n)
}

// combineDecimals computes with 34 digits (IEEE 754-2008, decimal128).
func combineDecimals(operator string, a, b bson.RawValue) (bson.RawValue, error) {
	x, xExp, okX := decimal(a)
	y, yExp, okY := decimal(b)
	if !okX || !okY {
		return a, fault.NotImplemented("%s of infinite decimals is not here", operator)
	}
	exp := xExp + yExp
	if operator == "$inc" {
		exp = min(xExp, yExp)
		if max(xExp, yExp)-exp > 7000 {
			return a, fault.NotImplemented("%s of decimals so far apart is not here", operator)
		}
		x.Mul(x, power(xExp-exp)).Add(x, y.Mul(y, power(yExp-exp)))
	} else {
		x.Mul(x, y)
	}
	for len(new(big.Int).Abs(x).String()) > 34 { // to the nearest, ties to even
		cut := len(new(big.Int).Abs(x).String()) - 34
		half, rest := power(cut), new(big.Int)
		x.QuoRem(x, half, rest)
		switch twice := rest.Abs(rest).Lsh(rest, 1).Cmp(half); {
		case twice > 0, twice == 0 && x.Bit(0) == 1:
			x.Add(x, big.NewInt(int64(map[bool]int{true: -1, false: 1}[x.Sign() < 0])))
		}
		exp += cut
	}
	d, ok := bson.ParseDecimal128FromBigInt(x, exp)
	if !ok {
		return a, fault.BadValue("Failed to apply %s operations to current value (%s): the result does not fit into a decimal", operator, value.String(a))
	}
	return rawOf(d), nil
}

func power(n int) *big.Int { return new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil) }

// decimal returns a number's digits and the power of ten that they are of. A double
// has 15 of them, as where it is made a decimal.
func decimal(v bson.RawValue) (*big.Int, int, bool) {
	switch v.Type {
	case bson.TypeDecimal128:
		digits, exp, err := v.Decimal128().BigInt()
		return digits, exp, err == nil
	case bson.TypeDouble:
		d, err := bson.ParseDecimal128(new(big.Float).SetFloat64(finite(v.Double())).Text('e', 14))
		if err != nil || finite(v.Double()) != v.Double() {
			return nil, 0, false
		}
		digits, exp, err := d.BigInt()
		return digits, exp, err == nil
	}
	n, _ := value.Integer(v)
	return big.NewInt(n), 0, true
}

func finite(f float64) float64 {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return 0
	}
	return f
}
