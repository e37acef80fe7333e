package expression

import (
	"math"
	"math/big"
	"strconv"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// quotient divides with the 34 digits of a decimal128.
func quotient(a, b bson.RawValue) (bson.RawValue, error) {
	x, okX := new(big.Rat).SetString(numeral(a))
	y, okY := new(big.Rat).SetString(numeral(b))
	if !okX || !okY || y.Sign() == 0 {
		return a, fault.NotImplemented("a division of %s by %s is not here", value.String(a), value.String(b))
	}
	d, err := bson.ParseDecimal128(tidy(new(big.Float).SetPrec(160).SetRat(x.Quo(x, y)).Text('g', 34)))
	if err != nil {
		return a, fault.BadValue("the quotient of %s and %s does not fit into a decimal", value.String(a), value.String(b))
	}
	return value.Of(d), nil
}

// tidy takes the zeros from the end of a numeral's digits.
func tidy(text string) string {
	f, _, err := big.ParseFloat(text, 10, 160, big.ToNearestEven)
	if err != nil {
		return text
	}
	return f.Text('g', 34)
}

func numeral(v bson.RawValue) string {
	switch v.Type {
	case bson.TypeDecimal128:
		return v.Decimal128().String()
	case bson.TypeDouble:
		return strconv.FormatFloat(v.Double(), 'g', -1, 64)
	}
	n, _ := value.Integer(v)
	return strconv.FormatInt(n, 10)
}

// roundDecimal rounds a decimal to places behind the point.
func roundDecimal(c *call, v bson.RawValue, places int, f func(float64) float64) (bson.RawValue, error) {
	digits, exp, err := v.Decimal128().BigInt()
	if err != nil || -exp <= places {
		return v, nil
	}
	unit := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(-exp-places)), nil)
	q, rest := new(big.Int).QuoRem(digits, unit, new(big.Int))
	// The function sees the last digit that stays and what is behind it as a float64.
	last := new(big.Int).Rem(q, big.NewInt(10))
	part, _ := new(big.Rat).SetFrac(rest, unit).Float64()
	sum := float64(last.Int64()) + part
	q.Add(q, big.NewInt(int64(f(sum))-last.Int64()))
	d, ok := bson.ParseDecimal128FromBigInt(q, -places)
	if !ok {
		return v, fault.BadValue("%s of %s does not fit into a decimal", c.name, value.String(v))
	}
	return value.Of(d), nil
}

// roundFloat rounds to places behind the point as the digits are written.
func roundFloat(x float64, places int, f func(float64) float64) float64 {
	r, ok := new(big.Rat).SetString(strconv.FormatFloat(x, 'f', -1, 64))
	if !ok {
		return x
	}
	scale := new(big.Rat).SetFrac(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(places, -places))), nil), big.NewInt(1))
	if places < 0 {
		scale.Inv(scale)
	}
	scaled, _ := r.Mul(r, scale).Float64()
	out, err := strconv.ParseFloat(strconv.FormatFloat(f(scaled), 'f', 0, 64)+"e"+strconv.Itoa(-places), 64)
	if err != nil || math.IsInf(out, 0) {
		return x
	}
	return out
}
