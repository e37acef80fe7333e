package sqlstore

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
)

// plain is a server whose SQL is written as it is read.
type plain struct {
	Server
	noRowValues bool
}

func (p plain) Dialect() *Dialect {
	return &Dialect{Script: sqlscript.PostgreSQL, Reads: []string{"SELECT", "WITH", "PRAGMA"}, Quote: func(n string) string { return n }, KeyLiteral: func(_ *Column, text string) string { return text }, NoRowValues: p.noRowValues,
		Contains: func(c *Column, text string) string { return c.Name + " has " + text }}
}

// What comes after a key is the same condition with row values and without.
func TestAfter(t *testing.T) {
	key := func(names ...string) *table {
		out := &table{Table: &Table{}}
		for _, n := range names {
			out.Key = append(out.Key, &Column{Column: store.Column{Name: n}})
		}
		return out
	}
	for _, c := range []struct {
		t                 *table
		key               string
		back, noRowValues bool
		want              string
	}{
		{key("a"), `["1"]`, false, false, "a > 1"}, {key("a"), `["1"]`, true, true, "a < 1"},
		{key("a", "b"), `["1","2"]`, false, false, "(a, b) > (1, 2)"},
		{key("a", "b", "c"), `["1","2","3"]`, false, true, "(a >= 1 AND (a > 1 OR (b >= 2 AND (b > 2 OR c > 3))))"},
		{key("a", "b"), `["1","2"]`, true, true, "(a <= 1 AND (a < 1 OR b < 2))"},
	} {
		got, err := New(plain{noRowValues: c.noRowValues}).after(c.t, c.key, c.back)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	for _, bad := range []string{"", "1", `["1"]`, `{"a":1}`, `["1","2","3"]`} {
		_, err := New(plain{}).after(key("a", "b"), bad, false)
		assert.ErrorContains(t, err, "write a JSON list of a, b", bad)
	}
}

// Words are looked for, and what compares is a condition.
func TestConditions(t *testing.T) {
	for text, want := range map[string]bool{"drill": false, "hammer drill": false, "Ines Brandt": false, "due < now()": true, "returned is null": true, "name like 'a%'": true, "is": false, "like": false, "true": true, "not": false, "price between 1 and 2": true, "what is this": true} {
		assert.Equal(t, want, isCondition(text), text)
	}
	s := New(plain{})
	tools := &table{Table: &Table{Columns: []Column{{Column: store.Column{Name: "name"}}, {Column: store.Column{Name: "photo", Is: store.Binary}}}}}
	got, says, err := s.where(tools, "hammer drill")
	require.NoError(t, err)
	assert.Equal(t, "(name has hammer drill)", got)
	assert.Equal(t, `with "hammer drill" in them`, says)
	_, _, err = s.where(tools, "a = 1); drop table x; select (1")
	assert.ErrorContains(t, err, "3 statements")
}

// Only what begins with a word that reads is carried out unasked.
func TestReads(t *testing.T) {
	d := plain{}.Dialect()
	for text, want := range map[string]bool{"select 1": true, "/* x */ -- y\n SELECT 1": true, "with x as (select 1) select * from x": true, "insert into x values (1)": false, "vacuum": false, "set x = 1": false,
		"select 1 into outfile '/tmp/x'": false, "pragma table_info(x)": true, "pragma user_version = 3": false, "(select 1)": true} {
		got, err := d.reads(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, says := range map[string]string{"": "no statement", "select 1; select 2": "2 statements", "select 'a": "line 1"} {
		_, err := d.reads(text)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestValueCut(t *testing.T) {
	for text, want := range map[string]store.Value{"": {Is: store.Text}, "abc": {Text: "abc", Is: store.Text}, "éééé": {Text: "ééé", Is: store.Text, Cut: true}, "abc\xff": {Text: "abc", Is: store.Text, Cut: true}} {
		assert.Equal(t, want, value([]byte(text), store.Text, 3), text)
	}
	assert.Equal(t, store.NullValue, value(nil, store.Text, 3))
	assert.True(t, strings.HasPrefix(inWords(`["1","2"]`), "1, 2"))
}
