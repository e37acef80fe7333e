package store

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever the names are, an address leads back to them.
func TestAddresses(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		parts := rapid.SliceOfN(rapid.StringOf(rapid.RuneFrom([]rune("ab.\" é'\n"))), 1, 4).Draw(r, "parts")
		got, err := Split(Join(parts...))
		require.NoError(r, err)
		assert.Equal(r, parts, got)
	})
	assert.Equal(t, `toolshed.public."Loans of.2026"`, Join("toolshed", "public", "Loans of.2026"))
	for address, says := range map[string]string{`"a`: "not closed", `"a"b`: "a dot must follow"} {
		_, err := Split(address)
		assert.ErrorContains(t, err, says)
	}
}

// A row is always one JSON object, and nothing that a terminal acts on is in a line.
func TestValues(t *testing.T) {
	forms := []Form{Text, Null, Number, Truth, Time, JSON, Binary, "odd"}
	rapid.Check(t, func(r *rapid.T) {
		v := Value{Text: rapid.String().Draw(r, "text") + rapid.SampledFrom([]string{"", "\x1b[2J", "\xff", "1e", "{"}).Draw(r, "more"), Is: rapid.SampledFrom(forms).Draw(r, "is"), Cut: rapid.Bool().Draw(r, "cut")}
		b, err := Object([]Column{{Name: `a"b`}, {Name: "c"}}, []Value{v, NullValue})
		require.NoError(r, err)
		assert.True(r, json.Valid(b), "%s", b)
		for _, c := range v.Line(20) {
			assert.False(r, c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0, "%q", v.Line(20))
		}
	})
	b, err := Object([]Column{{Name: "id"}, {Name: "big"}, {Name: "ok"}, {Name: "about"}, {Name: "none"}, {Name: "odd"}},
		[]Value{{Text: "12", Is: Number}, {Text: "12345678901234567890.5", Is: Number}, {Text: "t", Is: Truth}, {Text: `{"a": [1]}`, Is: JSON}, NullValue, {Text: "NaN", Is: Number}})
	require.NoError(t, err)
	assert.Equal(t, `{"id":12,"big":12345678901234567890.5,"ok":true,"about":{"a":[1]},"none":null,"odd":"NaN"}`, string(b))
	assert.Equal(t, "∅", NullValue.Line(10))
	assert.Equal(t, "a⏎b", Value{Text: "a\nb"}.Line(10))
	assert.Equal(t, "0x00ff…", Value{Text: "00ff", Is: Binary, Cut: true}.Line(10))
	assert.Equal(t, `["12"]`, KeyOf("12"))
	assert.Equal(t, `["a","b"]`, KeyOf(`["a","b"]`))
	assert.Equal(t, "{\n  \"a\": 1\n}", Indent(`{"a":1}`))
}
