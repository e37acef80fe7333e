package expression

import (
	"cmp"
	"maps"
	"math"
	"math/rand/v2"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

var operators = map[string]operator{
	"$add": {0, -1, add}, "$subtract": {2, 2, subtract}, "$multiply": {0, -1, multiply}, "$divide": {2, 2, divide}, "$mod": {2, 2, mod},
	"$abs": {1, 1, absolute}, "$ceil": {1, 1, round(math.Ceil)}, "$floor": {1, 1, round(math.Floor)}, "$round": {1, 2, round(math.RoundToEven)}, "$trunc": {1, 2, round(math.Trunc)},
	"$pow": {2, 2, pow}, "$sqrt": {1, 1, function(math.Sqrt)}, "$exp": {1, 1, function(math.Exp)}, "$ln": {1, 1, function(math.Log)}, "$log10": {1, 1, function(math.Log10)},
	"$cmp": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		return value.Of(int32(c.compare(a[0], a[1]))), nil
	}},
	"$eq": {2, 2, compared(func(d int) bool { return d == 0 })}, "$ne": {2, 2, compared(func(d int) bool { return d != 0 })},
	"$gt": {2, 2, compared(func(d int) bool { return d > 0 })}, "$gte": {2, 2, compared(func(d int) bool { return d >= 0 })},
	"$lt": {2, 2, compared(func(d int) bool { return d < 0 })}, "$lte": {2, 2, compared(func(d int) bool { return d <= 0 })},
	"$not":  {1, 1, func(_ *call, a []bson.RawValue) (bson.RawValue, error) { return value.Of(!Truth(a[0])), nil }},
	"$rand": {0, 1, func(*call, []bson.RawValue) (bson.RawValue, error) { return value.Of(rand.Float64()), nil }},
	"$sum":  {1, -1, folding}, "$avg": {1, -1, folding}, "$min": {1, -1, folding}, "$max": {1, -1, folding}, "$stdDevPop": {1, -1, folding}, "$stdDevSamp": {1, -1, folding},
	"$mergeObjects": {0, -1, folding},
}

func init() {
	for _, more := range []map[string]operator{arrayOperators, textOperators, dateOperators, typeOperators} {
		maps.Copy(operators, more)
	}
}

// Names lists the operators, and the variables that each expression has.
func Names() []string {
	all := []string{"$$ROOT", "$$CURRENT", "$$NOW"}
	all = slices.AppendSeq(all, maps.Keys(operators))
	all = slices.AppendSeq(all, maps.Keys(specials))
	slices.Sort(all)
	return slices.DeleteFunc(slices.Compact(all), func(name string) bool { return name == "$meta" })
}

func compared(holds func(int) bool) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		return value.Of(holds(c.compare(a[0], a[1]))), nil
	}
}

// compare compares two values; what isn't there comes before null.
func (c *call) compare(a, b bson.RawValue) int {
	for _, v := range []*bson.RawValue{&a, &b} {
		if v.Type == 0 {
			v.Type = bson.TypeUndefined
		}
	}
	return cmp.Compare(c.collation.Compare(a, b), 0)
}

func someNull(all []bson.RawValue) bool { return slices.ContainsFunc(all, null) }

// numbers makes sure that all arguments are numbers; without is true if one is null.
func (c *call) numbers(all []bson.RawValue) (without bool, err error) {
	for _, v := range all {
		if !null(v) && !value.IsNumber(v) {
			return false, c.wrong(v, "numbers")
		}
	}
	return someNull(all), nil
}

// combined adds or multiplies, with a double where whole numbers don't suffice.
func combined(operator string, a, b bson.RawValue) bson.RawValue {
	v, err := value.Combine(operator, a, b)
	if err != nil {
		x, y := value.Float(a), value.Float(b)
		switch operator {
		case "$multiply":
			return value.Of(x * y)
		case "$subtract":
			return value.Of(x - y)
		}
		return value.Of(x + y)
	}
	return v
}

func add(c *call, all []bson.RawValue) (bson.RawValue, error) {
	sum := value.Of(int32(0))
	var date bson.RawValue
	for _, v := range all {
		switch {
		case null(v):
			return value.Null, nil
		case v.Type == bson.TypeDateTime && date.Type == 0:
			date = v
		case v.Type == bson.TypeDateTime:
			return v, &fault.Error{Code: 16612, Name: "Location16612", Message: "only one date allowed in an $add expression"}
		case !value.IsNumber(v):
			return v, &fault.Error{Code: 14, Name: "TypeMismatch", Message: "$add only supports numeric or date types, not " + value.Name(v.Type)}
		default:
			sum = combined(c.name, sum, v)
		}
	}
	if date.Type != 0 {
		return value.Of(bson.DateTime(date.DateTime() + int64(math.Round(value.Float(sum))))), nil
	}
	return sum, nil
}

func subtract(c *call, a []bson.RawValue) (bson.RawValue, error) {
	switch {
	case someNull(a):
		return value.Null, nil
	case a[0].Type == bson.TypeDateTime && a[1].Type == bson.TypeDateTime:
		return value.Of(a[0].DateTime() - a[1].DateTime()), nil
	case a[0].Type == bson.TypeDateTime && value.IsNumber(a[1]):
		return value.Of(bson.DateTime(a[0].DateTime() - int64(math.Round(value.Float(a[1]))))), nil
	case !value.IsNumber(a[0]) || !value.IsNumber(a[1]):
		return a[0], fault.TypeMismatch("can't $subtract %s from %s", value.Name(a[1].Type), value.Name(a[0].Type))
	}
	return combined(c.name, a[0], a[1]), nil
}

func multiply(c *call, all []bson.RawValue) (bson.RawValue, error) {
	if without, err := c.numbers(all); err != nil || without {
		return value.Null, err
	}
	product := value.Of(int32(1))
	for _, v := range all {
		product = combined(c.name, product, v)
	}
	return product, nil
}

func divide(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if without, err := c.numbers(a); err != nil || without {
		return value.Null, err
	}
	if value.Float(a[1]) == 0 {
		return a[0], fault.BadValue("can't $divide by zero")
	}
	q := value.Float(a[0]) / value.Float(a[1])
	if a[0].Type == bson.TypeDecimal128 || a[1].Type == bson.TypeDecimal128 {
		return quotient(a[0], a[1])
	}
	return value.Of(q), nil
}

func mod(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if without, err := c.numbers(a); err != nil || without {
		return value.Null, err
	}
	x, xWhole := value.Integer(a[0])
	y, yWhole := value.Integer(a[1])
	switch {
	case value.Float(a[1]) == 0:
		return a[0], &fault.Error{Code: 16610, Name: "Location16610", Message: "can't $mod by zero"}
	case !xWhole || !yWhole || a[0].Type == bson.TypeDouble || a[1].Type == bson.TypeDouble:
		return value.Of(math.Mod(value.Float(a[0]), value.Float(a[1]))), nil
	case y == -1:
		return like(a, 0), nil
	}
	return like(a, x%y), nil
}

// like is a whole number of the wider type of some.
func like(of []bson.RawValue, n int64) bson.RawValue {
	for _, v := range of {
		if v.Type == bson.TypeInt64 {
			return value.Of(n)
		}
	}
	if n < math.MinInt32 || n > math.MaxInt32 {
		return value.Of(n)
	}
	return value.Of(int32(n))
}

func absolute(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if without, err := c.numbers(a); err != nil || without {
		return value.Null, err
	}
	if value.Float(a[0]) >= 0 {
		return a[0], nil
	}
	return combined("$multiply", a[0], value.Of(int32(-1))), nil
}

// round rounds to places behind the point, or before it, none if that isn't said.
func round(f func(float64) float64) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if without, err := c.numbers(a); err != nil || without {
			return value.Null, err
		}
		places := int64(0)
		if len(a) > 1 {
			n, ok := value.Integer(a[1])
			if !ok || n < -20 || n > 100 {
				return a[1], &fault.Error{Code: 51083, Name: "Location51083", Message: c.name + " needs a place between -20 and 100"}
			}
			places = n
		}
		switch a[0].Type {
		case bson.TypeInt32, bson.TypeInt64:
			if places >= 0 {
				return a[0], nil
			}
			n, _ := value.Integer(a[0])
			scale := math.Pow10(int(-places))
			return like(a[:1], int64(f(float64(n)/scale)*scale)), nil
		case bson.TypeDecimal128:
			return roundDecimal(c, a[0], int(places), f)
		}
		x := value.Float(a[0])
		if places == 0 || math.IsInf(x, 0) || math.IsNaN(x) {
			return value.Of(f(x)), nil
		}
		return value.Of(roundFloat(x, int(places), f)), nil
	}
}

func pow(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if without, err := c.numbers(a); err != nil || without {
		return value.Null, err
	}
	p := math.Pow(value.Float(a[0]), value.Float(a[1]))
	_, x := value.Integer(a[0])
	n, y := value.Integer(a[1])
	if x && y && n >= 0 && a[0].Type != bson.TypeDouble && a[1].Type != bson.TypeDouble && math.Abs(p) < 1<<53 {
		return like(a, int64(p)), nil
	}
	return value.Of(p), nil
}

func function(f func(float64) float64) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if without, err := c.numbers(a); err != nil || without {
			return value.Null, err
		}
		out := f(value.Float(a[0]))
		if math.IsNaN(out) && !math.IsNaN(value.Float(a[0])) {
			return a[0], fault.BadValue("%s can't be computed of %s", c.name, value.String(a[0]))
		}
		return value.Of(out), nil
	}
}

// folding is an accumulator as an expression, of its arguments, or of the elements of the
// only one.
func folding(c *call, a []bson.RawValue) (bson.RawValue, error) {
	if len(a) == 1 && a[0].Type == bson.TypeArray {
		a = value.Items(a[0])
	}
	acc := NewAccumulator(c.name, c.collation)
	for _, v := range a {
		if err := acc.Add(v); err != nil {
			return v, err
		}
	}
	return acc.Result(), nil
}
