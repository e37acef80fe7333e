package sqlite

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Values have types of their own, which are told as they are; rows that are written as
// statements come back with the same types and bytes.
func TestValuesOfAnyType(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "x.db"))
	require.NoError(t, err)
	defer db.Close()
	const columns = "(a, b text, c integer, d blob, e real, f boolean, g json)"
	for _, statement := range []string{"create table x" + columns, "create table y" + columns,
		"insert into x values (5, cast(x'fffe' as blob), 'not a number', 'text in blob', x'00', true, '{}')",
		"insert into x values (1.5, null, 9223372036854775807, zeroblob(5), null, 'perhaps', null)",
		"insert into x values ('q', 'it''s', 9e999, 3, -0.0, 0, '[')",
		"insert into x values (2.0, '日本', -9e999, '', 1e300, null, 7)",
		"insert into x values (null, 'nul' || char(0) || 'in', 1e15, x'', 12, null, null)"} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	source, err := Kind{}.Source(&kind.Instance{Service: &declare.Service{Name: "x", Settings: &Settings{File: declare.Word{Value: "x.db"}}}, Root: dir})
	require.NoError(t, err)
	defer source.Close()
	page, err := source.Items(context.Background(), store.Query{Collection: "x", Limit: 10, Wide: 100})
	require.NoError(t, err)
	var shown []string
	for _, r := range page.Rows {
		var row []string
		for _, v := range r.Values {
			row = append(row, string(v.Is)+" "+v.Text)
		}
		shown = append(shown, strings.Join(row, ", "))
	}
	assert.Equal(t, []string{
		"number 5, binary fffe, text not a number, text text in blob, binary 00, truth 1, json {}",
		"number 1.5, null , number 9223372036854775807, binary 0000000000, null , text perhaps, null ",
		"text q, text it's, number +Inf, number 3, number 0.0, truth 0, json [",
		"number 2.0, text 日本, number -Inf, text , number 1e+300, null , number 7",
		"null , binary 6e756c00696e, number 1000000000000000, binary , number 12.0, null , null ",
	}, shown)
	var script strings.Builder
	require.NoError(t, store.WriteInserts(&script, page))
	_, err = db.Exec(strings.ReplaceAll(script.String(), `INTO "x"`, `INTO "y"`))
	require.NoError(t, err, script.String())
	const whole = "select group_concat(quote(a) || quote(b) || quote(c) || quote(d) || quote(e) || quote(f) || quote(g), x'0a') from "
	var was, is string
	require.NoError(t, db.QueryRow(whole+"x where rowid < 5").Scan(&was))
	require.NoError(t, db.QueryRow(whole+"y where rowid < 5").Scan(&is))
	assert.Equal(t, was, is)

	asker := source.(store.Asker)
	answer, err := asker.Ask(context.Background(), store.Question{Statement: "select d, x'ff', 1, 'x', null, 2.0 from x limit 1", Limit: 1, Wide: 100})
	require.NoError(t, err)
	assert.Equal(t, []store.Value{{Text: "text in blob", Is: store.Text}, {Text: "ff", Is: store.Binary}, {Text: "1", Is: store.Number}, {Text: "x", Is: store.Text}, store.NullValue, {Text: "2.0", Is: store.Number}}, answer.Rows[0].Values)
	require.NoError(t, os.Remove(filepath.Join(dir, "x.db")))
}
