package value_test

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/value"
)

// raw makes a value as the protocol carries it.
func raw(t require.TestingT, v any) bson.RawValue {
	if v == nil {
		return value.Null
	}
	kind, b, err := bson.MarshalValue(v)
	require.NoError(t, err)
	return bson.RawValue{Type: kind, Value: b}
}

func decimal(text string) bson.Decimal128 {
	d, err := bson.ParseDecimal128(text)
	if err != nil {
		panic(err)
	}
	return d
}

// The values stand in their order; those in one row are equal.
func TestOrder(t *testing.T) {
	rows := [][]any{
		{bson.MinKey{}},
		{bson.Undefined{}},
		{nil},
		{math.NaN(), decimal("NaN")},
		{math.Inf(-1), decimal("-Infinity")},
		{decimal("-1E6144")},
		{-math.MaxFloat64},
		{int64(math.MinInt64), -9223372036854775808.0, decimal("-9223372036854775808")},
		{int64(math.MinInt64) + 1, decimal("-9223372036854775807")},
		{-1.5, decimal("-1.5")},
		{int32(-1), int64(-1), -1.0, decimal("-1"), decimal("-1.000")},
		{-math.SmallestNonzeroFloat64},
		{decimal("-1E-6176")},
		{int32(0), int64(0), 0.0, math.Copysign(0, -1), decimal("0"), decimal("-0E+3")},
		{decimal("1E-6176")},
		{math.SmallestNonzeroFloat64},
		{decimal("0.1")}, // the double is a little more
		{0.1},
		{int32(1), int64(1), 1.0, decimal("1.0")},
		{int64(1)<<53 - 1, float64(int64(1)<<53 - 1)},
		{int64(1) << 53, float64(int64(1) << 53)},
		{int64(1)<<53 + 1, decimal("9007199254740993")},
		{decimal("9007199254740993.5")},
		{int64(1)<<53 + 2, float64(int64(1)<<53 + 2)},
		{int64(math.MaxInt64)},
		{9223372036854775808.0, decimal("9223372036854775808")},
		{math.MaxFloat64},
		{decimal("1E400")},
		{decimal("9.999999999999999999999999999999999E6144")},
		{math.Inf(1), decimal("Infinity")},
		{"", bson.Symbol("")},
		{"\x00"},
		{"\x00\x00"},
		{"\x00a"},
		{"a", bson.Symbol("a")},
		{"a\x00"},
		{"aa"},
		{"b"},
		{"é"},
		{bson.D{}},
		{bson.D{{Key: "b", Value: nil}}}, // the type goes before the name
		{bson.D{{Key: "a", Value: 1}}, bson.D{{Key: "a", Value: 1.0}}},
		{bson.D{{Key: "a", Value: 1}, {Key: "a", Value: nil}}},
		{bson.D{{Key: "a", Value: 2}}},
		{bson.D{{Key: "b", Value: 1}}},
		{bson.D{{Key: "a", Value: "x"}}},
		{bson.A{}},
		{bson.A{nil}},
		{bson.A{1}, bson.A{1.0}},
		{bson.A{1, 2}},
		{bson.A{2}},
		{bson.A{bson.A{}}},
		{bson.Binary{}},
		{bson.Binary{Data: []byte{9}}},
		{bson.Binary{Subtype: 4, Data: []byte{1}}},
		{bson.Binary{Data: []byte{1, 2}}},
		{bson.ObjectID{}},
		{bson.ObjectID{1}},
		{false},
		{true},
		{bson.DateTime(-62135596800001)},
		{bson.DateTime(0)},
		{bson.DateTime(1)},
		{bson.Timestamp{T: 1, I: math.MaxUint32}},
		{bson.Timestamp{T: 2}},
		{bson.Timestamp{T: math.MaxUint32}},
		{bson.Regex{Pattern: "a"}},
		{bson.Regex{Pattern: "a", Options: "i"}},
		{bson.Regex{Pattern: "b"}},
		{bson.DBPointer{DB: "a", Pointer: bson.ObjectID{1}}},
		{bson.JavaScript("x")},
		{bson.CodeWithScope{Code: "x", Scope: bson.D{}}},
		{bson.CodeWithScope{Code: "x", Scope: bson.D{{Key: "a", Value: 1}}}},
		{bson.MaxKey{}},
	}
	for i, row := range rows {
		for j, other := range rows {
			for _, a := range row {
				for _, b := range other {
					x, y := raw(t, a), raw(t, b)
					what := fmt.Sprintf("%#v and %#v", a, b)
					require.Equal(t, cmp.Compare(i, j), sign(value.Compare(x, y)), what)
					require.Equal(t, cmp.Compare(i, j), bytes.Compare(value.Key(x), value.Key(y)), "the keys of %s", what)
					require.Equal(t, i == j, value.Equal(x, y), what)
				}
			}
		}
	}
}

func sign(n int) int { return cmp.Compare(n, 0) }

// anyValue draws a value, of few numbers and texts so that equal ones come up.
func anyValue(depth int) *rapid.Generator[any] {
	flat := []*rapid.Generator[any]{
		rapid.Map(rapid.Int32Range(-3, 3), func(n int32) any { return n }),
		rapid.Map(rapid.Int64(), func(n int64) any { return n }),
		rapid.Map(rapid.Float64(), func(f float64) any { return f }),
		rapid.Map(rapid.Int64Range(-3, 3), func(n int64) any { return float64(n) / 2 }),
		rapid.Map(rapid.StringMatching(`-?[0-9]{1,30}(\.[0-9]{1,4})?(E-?[0-9]{1,2})?`), func(s string) any { return decimal(s) }),
		rapid.Map(rapid.StringOfN(rapid.RuneFrom([]rune("ab\x00é")), 0, 3, -1), func(s string) any { return s }),
		rapid.Map(rapid.SliceOfN(rapid.Byte(), 0, 3), func(b []byte) any { return bson.Binary{Data: b} }),
		rapid.Map(rapid.Bool(), func(b bool) any { return b }),
		rapid.Map(rapid.Int64Range(-2, 2), func(n int64) any { return bson.DateTime(n) }),
		rapid.Just[any](nil),
	}
	if depth > 0 {
		flat = append(flat, rapid.Map(rapid.SliceOfN(anyValue(depth-1), 0, 3), func(list []any) any { return bson.A(list) }),
			rapid.Custom(func(t *rapid.T) any {
				d := bson.D{}
				for range rapid.IntRange(0, 3).Draw(t, "members") {
					d = append(d, bson.E{Key: rapid.SampledFrom([]string{"a", "b", "ab"}).Draw(t, "name"), Value: anyValue(depth-1).Draw(t, "value")})
				}
				return d
			}))
	}
	return rapid.OneOf(flat...)
}

// Keys are in the order of their values, no key begins another, and the order is one.
func TestKeysInOrder(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		a, b, c := raw(r, anyValue(2).Draw(r, "a")), raw(r, anyValue(2).Draw(r, "b")), raw(r, anyValue(2).Draw(r, "c"))
		x, y := value.Key(a), value.Key(b)
		require.Equal(r, sign(value.Compare(a, b)), bytes.Compare(x, y), "%s and %s", a, b)
		require.Equal(r, sign(value.Compare(a, b)), -sign(value.Compare(b, a)))
		if value.Compare(a, b) <= 0 && value.Compare(b, c) <= 0 {
			require.LessOrEqual(r, value.Compare(a, c), 0)
		}
		if !bytes.Equal(x, y) {
			require.False(r, bytes.HasPrefix(x, y) || bytes.HasPrefix(y, x), "%s and %s", a, b)
		}
	})
}

func TestInteger(t *testing.T) {
	for v, want := range map[any]int64{int32(3): 3, int64(-4): -4, 5.0: 5, -9223372036854775808.0: math.MinInt64} {
		got, ok := value.Integer(raw(t, v))
		assert.True(t, ok)
		assert.Equal(t, want, got)
	}
	got, ok := value.Integer(raw(t, decimal("1.2E1")))
	assert.True(t, ok)
	assert.Equal(t, int64(12), got)
	for _, v := range []any{1.5, math.NaN(), math.Inf(1), 9223372036854775808.0, decimal("0.1"), decimal("1E30"), "1", nil} {
		_, ok := value.Integer(raw(t, v))
		assert.False(t, ok, v)
	}
}

// What is valid can be compared and written as a key; all else is refused.
func TestValidate(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		b, err := bson.Marshal(bson.D{{Key: "a", Value: anyValue(3).Draw(r, "value")}})
		require.NoError(r, err)
		require.NoError(r, value.Validate(b))
		require.Error(r, value.Validate(b[:len(b)-1]))
	})
	deep := []byte{5, 0, 0, 0, 0}
	for range value.MostDeep + 1 {
		deep, _ = bson.Marshal(bson.D{{Key: "a", Value: bson.Raw(deep)}})
	}
	assert.ErrorContains(t, value.Validate(deep), "nested deeper than 200")
	assert.NoError(t, value.Validate(deep[7:len(deep)-1]))
	assert.ErrorContains(t, value.Validate(make([]byte, 17<<20)), "larger than")
}

func FuzzValidate(f *testing.F) {
	for _, v := range []any{"x", bson.A{1, bson.D{{Key: "b", Value: 2.5}}}, bson.CodeWithScope{Code: "x", Scope: bson.D{}}, bson.Regex{Pattern: "a", Options: "i"}, bson.DBPointer{DB: "a"}, bson.Binary{Subtype: 2, Data: []byte{1}}, decimal("1E-30")} {
		b, err := bson.Marshal(bson.D{{Key: "a", Value: v}})
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if value.Validate(b) != nil {
			return
		}
		d := bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: b}
		require.Zero(t, value.Compare(d, d))
		value.Elements(b, func(name string, v bson.RawValue) bool {
			require.NotEmpty(t, value.Key(v))
			_ = value.String(v)
			value.Integer(v)
			return true
		})
	})
}
