package sqlite

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/data/store/sqlstore"
	"neighbour/internal/core/kind"
)

// filled returns a look into a database that was made with a script.
func filled(t *testing.T, script ...string) *sqlstore.Source {
	t.Helper()
	in := instance(t, "a.db")
	s, err := Kind{}.session(t.Context(), in)
	require.NoError(t, err)
	for _, one := range script {
		require.NoError(t, s.Exec(t.Context(), statement(one)))
	}
	require.NoError(t, s.Close())
	source, err := Kind{}.Source(in)
	require.NoError(t, err)
	t.Cleanup(func() { source.Close() })
	return source.(*sqlstore.Source)
}

// Going through a table by pages, forwards or backwards, shows each row once and in
// order, whatever its key is.
func TestPages(t *testing.T) {
	source := filled(t,
		`create table "odd ""name"", x.y" ("a b" text, n integer, v text, primary key ("a b", n)) without rowid`,
		`with recursive c(i) as (select 1 union all select i + 1 from c where i < 137) insert into "odd ""name"", x.y" select 'k''' || (i % 7), i, 'row ' || i from c`,
		`create table plain (v text)`, `with recursive c(i) as (select 1 union all select i + 1 from c where i < 60) insert into plain select 'row ' || i from c`)
	for table, all := range map[string]int{`"odd ""name"", x.y"`: 137, "plain": 60} {
		whole, err := source.Items(t.Context(), store.Query{Collection: table, Limit: 1000})
		require.NoError(t, err)
		require.Len(t, whole.Rows, all)
		rapid.Check(t, func(r *rapid.T) {
			q := store.Query{Collection: table, Limit: rapid.IntRange(7, 60).Draw(r, "limit"), Back: rapid.Bool().Draw(r, "back")}
			var got []store.Row
			for {
				p, err := source.Items(t.Context(), q)
				require.NoError(r, err)
				if q.Back {
					got, q.After = append(p.Rows, got...), p.Prev
				} else {
					got, q.After = append(got, p.Rows...), p.Next
				}
				if !p.More {
					break
				}
			}
			assert.Equal(r, whole.Rows, got)
		})
	}
}

// Values are shown as they are, cut in the list and whole in the item.
func TestValuesOfAnItem(t *testing.T) {
	long := strings.Repeat("é", 5000)
	source := filled(t, "create table t (id integer primary key, name text, bytes blob, at datetime, absent text, empty text)",
		"insert into t values (1, '"+long+"', x'00ff41', '2026-11-26', null, '')", "create table u (id integer primary key, t integer references t (id))", "insert into u values (7, 1), (8, null), (9, 99)")
	p, err := source.Items(t.Context(), store.Query{Collection: "t", Limit: 10})
	require.NoError(t, err)
	v := p.Rows[0].Values
	assert.Equal(t, store.Value{Text: strings.Repeat("é", store.ListWidth), Is: store.Text, Cut: true}, v[1])
	assert.Equal(t, store.Value{Text: "00ff41", Is: store.Binary}, v[2])
	assert.Equal(t, "2026-11-26", v[3].Text)
	assert.Equal(t, store.Null, v[4].Is)
	assert.Equal(t, store.Value{Is: store.Text}, v[5])
	it, err := source.Item(t.Context(), "t", p.Rows[0].Key)
	require.NoError(t, err)
	assert.Equal(t, long, it.Fields[1].Value.Text)

	it, err = source.Item(t.Context(), "u", `["7"]`)
	require.NoError(t, err)
	require.NotNil(t, it.Fields[1].To)
	assert.Equal(t, "t", it.Fields[1].To.Collection)
	assert.Equal(t, p.Rows[0].Key, it.Fields[1].To.Key)
	it, err = source.Item(t.Context(), "u", `["9"]`)
	require.NoError(t, err)
	assert.Equal(t, "not there", it.Fields[1].To.Says)
	_, err = source.Item(t.Context(), "u", `["12"]`)
	var gone *store.GoneError
	assert.ErrorAs(t, err, &gone)
	_, err = source.Items(t.Context(), store.Query{Collection: "none"})
	assert.ErrorAs(t, err, &gone)
}

// Looking and asking change nothing, whatever is tried.
func TestReadOnly(t *testing.T) {
	source := filled(t, "create table t (a int)", "insert into t values (1), (2)")
	for _, s := range []string{"delete from t", "insert into t values (3)", "create table x (a)", "pragma user_version = 3", "vacuum", "drop table t", "with x as (select 1) delete from t", "attach 'x.db' as x"} {
		_, err := source.Ask(t.Context(), store.Question{Statement: s})
		var writes *store.WritesError
		assert.ErrorAs(t, err, &writes, s)
	}
	for s, says := range map[string]string{"select 1; pragma query_only = 0; delete from t": "ask one at a time", "selec 1": "", "": "no statement", "select * from absent": "no such table"} {
		_, err := source.Ask(t.Context(), store.Question{Statement: s})
		assert.ErrorContains(t, err, says, s)
	}
	_, err := source.Items(t.Context(), store.Query{Collection: "t", Where: "a = 1) limit 0; pragma query_only = 0; delete from t; select (1", Limit: 10})
	assert.Error(t, err)
	p, err := source.Ask(t.Context(), store.Question{Statement: "select count(*) as n from t;"})
	require.NoError(t, err)
	assert.Equal(t, "2", p.Rows[0].Values[0].Text)
	p, err = source.Ask(t.Context(), store.Question{Statement: "delete from t where a = 1", Write: true})
	require.NoError(t, err)
	assert.Equal(t, "1 row changed", p.Says)
	_, err = source.Ask(t.Context(), store.Question{Statement: "delete from t"})
	assert.Error(t, err, "reading is the default again")
}

func TestWhere(t *testing.T) {
	source := filled(t, "create table t (id integer primary key, name text)", "insert into t values (1, 'Hammer drill'), (2, 'ladder'), (12, 'it''s a saw')")
	for where, want := range map[string]string{"": "1 2 12", "drill": "1", "2": "2 12", "id > 1": "2 12", "name like '%a%' -- x": "1 2 12", "it's": "12", "id is null": "", "HAMMER DRILL": "1"} {
		p, err := source.Items(t.Context(), store.Query{Collection: "t", Where: where, Limit: 10})
		require.NoError(t, err, where)
		var got []string
		for _, r := range p.Rows {
			got = append(got, r.Values[0].Text)
		}
		assert.Equal(t, want, strings.Join(got, " "), where)
	}
	_, err := source.Items(t.Context(), store.Query{Collection: "t", Where: "nme = 1", Limit: 10})
	assert.ErrorContains(t, err, "no such column: nme")
}

// A change is the statement that was shown, and about one row.
func TestChanges(t *testing.T) {
	source := filled(t, `create table "my t" (id integer primary key, "a'b" text not null, bytes blob)`, `insert into "my t" values (1, 'x', null)`, "create view v as select 1 as one", "create table nokey (a)", "insert into nokey values (1)")
	text := func(s string) *string { return &s }
	do := func(a store.Act, statement, says string) {
		t.Helper()
		a.Collection = `"my t"`
		p, err := source.Plan(t.Context(), a)
		require.NoError(t, err)
		assert.Equal(t, statement, p.Statement)
		got, err := source.Do(t.Context(), a)
		require.NoError(t, err)
		assert.Equal(t, says, got)
	}
	do(store.Act{Action: store.Change, Key: `["n1"]`, Values: map[string]*string{"a'b": text("it's; drop table x --")}}, `UPDATE "my t" SET "a'b" = 'it''s; drop table x --' WHERE "id" = 1`, "1 row changed")
	do(store.Act{Action: store.Insert, Values: map[string]*string{"a'b": text(""), "bytes": text("00FF")}}, `INSERT INTO "my t" ("a'b", "bytes") VALUES ('', X'00FF')`, "1 row added")
	do(store.Act{Action: store.Change, Key: `["n2"]`, Values: map[string]*string{"bytes": nil}}, `UPDATE "my t" SET "bytes" = NULL WHERE "id" = 2`, "1 row changed")
	do(store.Act{Action: store.Delete, Key: `["n2"]`}, `DELETE FROM "my t" WHERE "id" = 2`, "1 row deleted")
	for says, a := range map[string]store.Act{
		"NOT NULL constraint failed":     {Action: store.Change, Key: `["n1"]`, Values: map[string]*string{"a'b": nil}},
		"the row n2 is not there":        {Action: store.Delete, Key: `["n2"]`},
		"is not a key here":              {Action: store.Delete, Key: `n1`},
		"there is no column zz":          {Action: store.Insert, Values: map[string]*string{"zz": nil}},
		"write it in hexadecimal digits": {Action: store.Insert, Values: map[string]*string{"bytes": text("no")}},
		"this can't be done here":        {Action: "frobnicate", Key: `["n1"]`},
	} {
		a.Collection = `"my t"`
		_, err := source.Do(t.Context(), a)
		assert.ErrorContains(t, err, says)
	}
	_, err := source.Do(t.Context(), store.Act{Collection: "v", Action: store.Delete, Key: `["1"]`})
	assert.ErrorContains(t, err, "a view")
	p, err := source.Plan(t.Context(), store.Act{Collection: `"my t"`, Action: store.Clear})
	require.NoError(t, err)
	assert.Equal(t, `1 row of my t`, p.Loses)
	do(store.Act{Action: store.Clear}, `DELETE FROM "my t"`, `my t is empty`)
}

// A question that takes long ends when nobody waits for it, and the next one is
// answered.
func TestCancelled(t *testing.T) {
	source := filled(t, "create table t (a int)")
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := source.Ask(ctx, store.Question{Statement: "with recursive c(i) as (select 1 union all select i + 1 from c) select count(*) from c"})
	assert.Error(t, err)
	_, err = source.Ask(t.Context(), store.Question{Statement: "select 1"})
	assert.NoError(t, err)
}

// A file that takes the place of another is the one that is looked at.
func TestAnotherFile(t *testing.T) {
	in := instance(t, "a.db")
	make := func(in *kind.Instance, name string) {
		s, err := Kind{}.session(t.Context(), in)
		require.NoError(t, err)
		require.NoError(t, s.Exec(t.Context(), statement("create table "+name+" (a int)")))
		require.NoError(t, s.Close())
	}
	make(in, "old")
	source, err := Kind{}.Source(in)
	require.NoError(t, err)
	defer source.Close()
	all, err := source.Collections(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "old", all[0].Title)
	other := instance(t, "b.db")
	make(other, "new")
	require.NoError(t, os.Rename(path(other), path(in)))
	all, err = source.Collections(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "new", all[0].Title)
}

// What is wide, damaged or gone is said.
func TestOddFiles(t *testing.T) {
	var columns []string
	for i := range 1600 {
		columns = append(columns, fmt.Sprintf("c%d int", i))
	}
	source := filled(t, "create table wide ("+strings.Join(columns, ", ")+")", "insert into wide (c0) values (1)")
	p, err := source.Items(t.Context(), store.Query{Collection: "wide", Limit: 100})
	require.NoError(t, err)
	assert.Len(t, p.Rows[0].Values, 1600)

	in := instance(t, "none.db")
	none, err := Kind{}.Source(in)
	require.NoError(t, err)
	_, err = none.Collections(t.Context())
	assert.ErrorContains(t, err, "none.db is not there")
	assert.NoFileExists(t, filepath.Join(in.Root, "none.db"), "looking makes nothing")
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, "none.db"), []byte(strings.Repeat("no database ", 100)), 0o600))
	_, err = none.Collections(t.Context())
	assert.ErrorContains(t, err, "not a database")
}
