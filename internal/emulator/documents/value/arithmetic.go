package value

import (
	"math"
	"math/big"
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
)

// IsNumber reports whether a value is a number of any type.
func IsNumber(v bson.RawValue) bool { return ClassOf(v.Type) == ClassNumber }

// Combine adds two numbers, subtracts the second if the operator is $subtract, or
// multiplies them if it is $mul or $multiply. The
// result is of the wider of their types; whole numbers that don't fit into 32 bits become
// ones of 64, and it is an error if those don't suffice.
func Combine(operator string, a, b bson.RawValue) (bson.RawValue, error) {
	switch {
	case a.Type == bson.TypeDecimal128 || b.Type == bson.TypeDecimal128:
		return combineDecimals(operator, a, b)
	case a.Type == bson.TypeDouble || b.Type == bson.TypeDouble:
		x, y := Float(a), Float(b)
		switch {
		case multiplies(operator):
			return Of(x * y), nil
		case operator == "$subtract":
			return Of(x - y), nil
		}
		return Of(x + y), nil
	}
	x, _ := Integer(a)
	y, _ := Integer(b)
	sum := new(big.Int).SetInt64(x)
	switch {
	case multiplies(operator):
		sum.Mul(sum, big.NewInt(y))
	case operator == "$subtract":
		sum.Sub(sum, big.NewInt(y))
	default:
		sum.Add(sum, big.NewInt(y))
	}
	switch n := sum.Int64(); {
	case !sum.IsInt64():
		return a, fault.BadValue("Failed to apply %s operations to current value (%s): the result does not fit into 64 bits", operator, String(a))
	case a.Type == bson.TypeInt32 && b.Type == bson.TypeInt32 && n >= math.MinInt32 && n <= math.MaxInt32:
		return Of(int32(n)), nil
	default:
		return Of(n), nil
	}
}

func multiplies(operator string) bool { return operator == "$mul" || operator == "$multiply" }

// Float returns a number as a float64, the nearest if it is none.
func Float(v bson.RawValue) float64 {
	if v.Type == bson.TypeDouble {
		return v.Double()
	}
	if v.Type == bson.TypeDecimal128 {
		f, _ := strconv.ParseFloat(v.Decimal128().String(), 64)
		return f
	}
	n, _ := Integer(v)
	return float64(n)
}

// combineDecimals computes with 34 digits (IEEE 754-2008, decimal128).
func combineDecimals(operator string, a, b bson.RawValue) (bson.RawValue, error) {
	x, xExp, okX := decimal(a)
	y, yExp, okY := decimal(b)
	if !okX || !okY {
		return a, fault.NotImplemented("%s of infinite decimals is not here", operator)
	}
	if operator == "$subtract" {
		y.Neg(y)
	}
	exp := xExp + yExp
	if !multiplies(operator) {
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
		return a, fault.BadValue("Failed to apply %s operations to current value (%s): the result does not fit into a decimal", operator, String(a))
	}
	return Of(d), nil
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
	n, _ := Integer(v)
	return big.NewInt(n), 0, true
}

func finite(f float64) float64 {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return 0
	}
	return f
}
