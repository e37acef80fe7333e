package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
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

func TestReadRows(t *testing.T) {
	rows, err := ReadRows(strings.NewReader("\xef\xbb\xbfid,name,note\r\n1,\"it's, a \"\"saw\"\"\nlong\",\n\n2,,\"\"\n"))
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, 2, rows[0].Line)
	assert.Equal(t, "it's, a \"saw\"\nlong", *rows[0].Values["name"])
	assert.Nil(t, rows[0].Values["note"])
	assert.Equal(t, 5, rows[1].Line)
	assert.Nil(t, rows[1].Values["name"])
	assert.Equal(t, "", *rows[1].Values["note"])
	for _, text := range []string{"[\n {\"id\": 12345678901234567890, \"ok\": true,\n \"about\": {\"a\":[1]}, \"none\": null},\n {\"id\": 2}]", "{\"id\": 12345678901234567890, \"ok\": true, \"about\": {\"a\": [1]}, \"none\": null}\n\n\n{\"id\": 2}\n"} {
		rows, err = ReadRows(strings.NewReader(text))
		require.NoError(t, err)
		assert.Equal(t, "12345678901234567890", *rows[0].Values["id"])
		assert.Equal(t, "true", *rows[0].Values["ok"])
		assert.Equal(t, `{"a":[1]}`, *rows[0].Values["about"])
		assert.Nil(t, rows[0].Values["none"])
		assert.Equal(t, 4, rows[1].Line)
	}
	for text, says := range map[string]string{"": "it is empty", "a,b\n1\n": "line 2: it has 1 fields", "a\n\"x": "line 2: a double quote is not closed", "a\n\"x\"y\n": "line 2: after what", "a\nb\n\xff": "line 3: it is not UTF-8", "[1]": "line 1: an object", "[{}": "the list does not end"} {
		_, err := ReadRows(strings.NewReader(text))
		assert.ErrorContains(t, err, says, text)
	}
	// What is written is read back as it was.
	rapid.Check(t, func(r *rapid.T) {
		v := []Value{{Text: rapid.StringOf(rapid.RuneFrom([]rune("a,\"\n ;é"))).Draw(r, "text"), Is: Text}, rapid.SampledFrom([]Value{NullValue, {Is: Text}}).Draw(r, "other")}
		var b strings.Builder
		require.NoError(r, CSV{}.Write(&b, []Column{{Name: "a"}, {Name: "b"}}, []Row{{Values: v}}))
		rows, err := ReadRows(strings.NewReader(b.String()))
		require.NoError(r, err)
		require.Len(r, rows, 1)
		assert.Equal(r, v[0].Text, *rows[0].Values["a"])
		assert.Equal(r, v[1].Is == Null, rows[0].Values["b"] == nil)
	})
}

// shelf is a source of numbered items that are deleted one at a time.
type shelf struct {
	Source
	Actor
	keys []string
}

func (s *shelf) Items(_ context.Context, q Query) (Page, error) {
	var p Page
	for _, k := range s.keys {
		if !strings.Contains(k, q.Where) || k <= q.After {
			continue
		}
		if p.More = len(p.Rows) == 3; p.More {
			break
		}
		p.Rows = append(p.Rows, Row{Key: k})
		p.Next = k
	}
	return p, nil
}

func (s *shelf) Plan(_ context.Context, a Act) (Plan, error) {
	return Plan{Statement: a.Action + " " + a.Key}, nil
}

func (s *shelf) Do(_ context.Context, a Act) (string, error) {
	s.keys = slices.DeleteFunc(s.keys, func(k string) bool { return a.Action == Clear || k == a.Key })
	return "done", nil
}

// What a filter leaves is deleted one by one where the server can't do it at once, and
// nothing else is.
func TestSweeps(t *testing.T) {
	s := &shelf{}
	for i := range 40 {
		s.keys = append(s.keys, fmt.Sprintf("%02d", i))
	}
	p, err := PlanAct(t.Context(), s, Act{Collection: "c", Action: Clear, Where: "1"})
	require.NoError(t, err)
	assert.Equal(t, "13 of the items of c", p.Loses)
	assert.True(t, strings.HasPrefix(p.Statement, "delete 01\ndelete 10\n"), p.Statement)
	assert.Len(t, s.keys, 40)
	says, err := DoAct(t.Context(), s, Act{Collection: "c", Action: Clear, Where: "1"})
	require.NoError(t, err)
	assert.Equal(t, "13 deleted", says)
	assert.Len(t, s.keys, 27)
	_, err = DoAct(t.Context(), s, Act{Action: Delete, Where: "2"})
	assert.ErrorIs(t, err, ErrNoAction)
	_, err = DoAct(t.Context(), s, Act{Action: Clear})
	require.NoError(t, err)
	assert.Empty(t, s.keys)
}
