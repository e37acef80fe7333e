package expression_test

import (
	"fmt"
	"math"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// of computes an expression of a document.
func of(t require.TestingT, e, d any) (bson.RawValue, error) {
	read, err := expression.Parse(value.Of(e), nil)
	require.NoError(t, err, "%v", e)
	return read.Of(value.Of(d), nil)
}

func call(name string, arguments ...any) bson.D {
	return bson.D{{Key: name, Value: bson.A(arguments)}}
}

func whole() *rapid.Generator[any] {
	return rapid.OneOf(rapid.Map(rapid.Int32(), func(n int32) any { return n }), rapid.Map(rapid.Int64(), func(n int64) any { return n }),
		rapid.SampledFrom([]any{int32(0), int32(1), int32(-1), int32(math.MaxInt32), int32(math.MinInt32), int64(math.MaxInt64), int64(math.MinInt64)}))
}

func bigOf(v any) *big.Int {
	n, _ := value.Integer(value.Of(v))
	return big.NewInt(n)
}

// Whole numbers are computed exactly while the result is one of 64 bits, and are doubles
// beyond.
func TestWholeNumbers(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		a, b := whole().Draw(r, "a"), whole().Draw(r, "b")
		d := bson.D{{Key: "a", Value: a}, {Key: "b", Value: b}}
		for name, exact := range map[string]*big.Int{"$add": new(big.Int).Add(bigOf(a), bigOf(b)), "$subtract": new(big.Int).Sub(bigOf(a), bigOf(b)), "$multiply": new(big.Int).Mul(bigOf(a), bigOf(b))} {
			v, err := of(r, call(name, "$a", "$b"), d)
			require.NoError(r, err)
			if n, ok := value.Integer(v); ok && v.Type != bson.TypeDouble {
				require.Equal(r, exact.String(), fmt.Sprint(n), name)
				continue
			}
			require.False(r, exact.IsInt64(), "%s of %v and %v is %v", name, a, b, v)
			want, _ := new(big.Float).SetInt(exact).Float64()
			require.InEpsilon(r, want, v.Double(), 1e-15)
		}
		if bigOf(b).Sign() != 0 {
			v, err := of(r, call("$mod", "$a", "$b"), d)
			require.NoError(r, err)
			n, _ := value.Integer(v)
			require.Equal(r, new(big.Int).Rem(bigOf(a), bigOf(b)).Int64(), n)
		}
		v, err := of(r, call("$cmp", "$a", "$b"), d)
		require.NoError(r, err)
		require.Equal(r, int32(bigOf(a).Cmp(bigOf(b))), v.Int32())
	})
}

// What was added to a date is the difference, and a date that is written is read again.
func TestDates(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		at := time.UnixMilli(rapid.Int64Range(-2e12, 4e12).Draw(r, "at")).UTC()
		unit := rapid.SampledFrom([]string{"year", "quarter", "month", "week", "day", "hour", "minute", "second", "millisecond"}).Draw(r, "unit")
		n := int64(rapid.IntRange(-500, 500).Draw(r, "n"))
		zone := rapid.SampledFrom([]string{"UTC", "Europe/Berlin", "America/New_York", "+05:30"}).Draw(r, "zone")
		later, err := of(r, bson.D{{Key: "$dateAdd", Value: bson.D{{Key: "startDate", Value: at}, {Key: "unit", Value: unit}, {Key: "amount", Value: n}, {Key: "timezone", Value: zone}}}}, bson.D{})
		require.NoError(r, err)
		if zone == "UTC" || zone == "+05:30" { // elsewhere days have not all 24 hours
			diff, err := of(r, bson.D{{Key: "$dateDiff", Value: bson.D{{Key: "startDate", Value: at}, {Key: "endDate", Value: later}, {Key: "unit", Value: unit}, {Key: "timezone", Value: zone}}}}, bson.D{})
			require.NoError(r, err)
			require.Equal(r, n, diff.Int64(), "%s %s", at, unit)
		}
		begin, err := of(r, bson.D{{Key: "$dateTrunc", Value: bson.D{{Key: "date", Value: at}, {Key: "unit", Value: unit}, {Key: "timezone", Value: zone}}}}, bson.D{})
		require.NoError(r, err)
		require.False(r, begin.Time().After(at))
		text, err := of(r, bson.D{{Key: "$dateToString", Value: bson.D{{Key: "date", Value: at}, {Key: "timezone", Value: zone}}}}, bson.D{})
		require.NoError(r, err)
		back, err := of(r, bson.D{{Key: "$dateFromString", Value: bson.D{{Key: "dateString", Value: text}}}}, bson.D{})
		require.NoError(r, err, text.StringValue())
		require.Equal(r, at.UnixMilli(), back.DateTime())
	})
}

// Texts that are split and put together again, cut and joined, or written in other forms,
// are what they were.
func TestTexts(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text := rapid.StringMatching(`[a-cäß, ]{0,12}`).Draw(r, "text")
		d := bson.D{{Key: "t", Value: text}}
		equal := func(want any, e any) {
			v, err := of(r, e, d)
			require.NoError(r, err, "%v", e)
			require.True(r, v.Equal(value.Of(want)), "%v of %q is %v", e, text, v)
		}
		equal(text, bson.D{{Key: "$reduce", Value: bson.D{{Key: "input", Value: call("$slice", call("$split", "$t", ","), int32(1), int32(99))}, {Key: "initialValue", Value: call("$first", call("$split", "$t", ","))},
			{Key: "in", Value: call("$concat", "$$value", ",", "$$this")}}}})
		at := int32(rapid.IntRange(0, len([]rune(text))).Draw(r, "at"))
		equal(text, call("$concat", call("$substrCP", "$t", int32(0), at), call("$substrCP", "$t", at, int32(99))))
		equal(int32(len([]rune(text))), call("$strLenCP", "$t"))
		equal(int32(len(text)), call("$strLenBytes", "$t"))
		equal(strings.TrimSpace(text), bson.D{{Key: "$trim", Value: bson.D{{Key: "input", Value: "$t"}}}})
		equal(strings.ReplaceAll(text, "a", "xx"), bson.D{{Key: "$replaceAll", Value: bson.D{{Key: "input", Value: "$t"}, {Key: "find", Value: "a"}, {Key: "replacement", Value: "xx"}}}})
		i := int32(strings.Index(text, "b"))
		equal(i, call("$indexOfBytes", "$t", "b"))
		n := rapid.Int64().Draw(r, "n")
		equal(n, call("$toLong", call("$toString", n)))
	})
}

// What can't be computed is an error that says so, and null stays null.
func TestExpressionErrors(t *testing.T) {
	for text, says := range map[string]string{
		`{"$divide": [1, 0]}`: "can't $divide by zero", `{"$mod": [1, 0]}`: "can't $mod by zero", `{"$add": ["a", 1]}`: "$add only supports numeric or date types", `{"$size": 1}`: "must be an array",
		`{"$toInt": "x"}`: "Failed to convert", `{"$toInt": 9999999999}`: "Failed to convert", `{"$arrayElemAt": [1, 0]}`: "must be an array", `{"$concat": [1]}`: "$concat only supports strings", `"$$none"`: "undefined variable: none",
		`{"$dateToString": {"date": "x"}}`: "$dateToString needs a date", `{"$hour": {"date": {"$date": 0}, "timezone": "Nowhere"}}`: "unrecognized time zone", `{"$switch": {"branches": []}}`: "could not find a matching branch",
		`{"$range": [0, 10, 0]}`: "a step that is not 0", `{"$substrBytes": ["ä", 0, 1]}`: "in the midst of a UTF-8 character", `{"$regexMatch": {"input": "a", "regex": "("}}`: "Regular expression is invalid", `{"$sqrt": -1}`: "can't be computed",
	} {
		v, err := of(t, parsed(t, text), bson.D{})
		var f *fault.Error
		if assert.ErrorAs(t, err, &f, "%s is %v", text, v) {
			assert.Contains(t, f.Message, says, text)
		}
	}
	for text, says := range map[string]string{`{"$foo": 1}`: "Unrecognized expression '$foo'", `{"$cmp": [1]}`: "takes exactly 2 arguments", `{"$cond": [1]}`: "takes exactly 3 arguments", `{"$cond": {"if": 1}}`: "Missing 'then'", `{"a": 1, "$b": 1}`: "may not start with '$'",
		`{"$filter": {"input": [], "cond": 1, "x": 1}}`: "Unrecognized parameter", `"$a..b"`: "may not be empty", `{"$add": 1, "$b": 2}`: "exactly one field", `"$$PRUNE"`: "is not here"} {
		_, err := expression.Parse(value.Of(parsed(t, text)), nil)
		assert.ErrorContains(t, err, says, text)
	}
	for _, text := range []string{`{"$add": [1, null]}`, `{"$multiply": ["$none", 2]}`, `{"$concat": ["a", null]}`, `{"$year": null}`, `{"$arrayElemAt": [null, 0]}`, `{"$map": {"input": null, "in": 1}}`, `{"$setUnion": [[], null]}`, `{"$toInt": null}`, `{"$split": [null, ","]}`} {
		v, err := of(t, parsed(t, text), bson.D{})
		assert.NoError(t, err, text)
		assert.Equal(t, bson.TypeNull, v.Type, text)
	}
}

func parsed(t *testing.T, text string) any {
	var d struct{ V any }
	require.NoError(t, bson.UnmarshalExtJSON([]byte(`{"V": `+text+`}`), false, &d), text)
	return d.V
}
