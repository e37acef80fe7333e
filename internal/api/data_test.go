package api

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/project"
)

// Without a keeper a database that is a file is looked into all the same, and of
// what must run it is said how it is started.
func TestDataWithoutAKeeper(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.members]\nkind = \"sqlite\"\nfile = \"a.db\"\n[service.shelf]\nkind = \"redis\"\n[service.api]\nrun = \"x\"\n"), 0o600))
	db, err := sql.Open("sqlite", filepath.Join(dir, "a.db"))
	require.NoError(t, err)
	_, err = db.Exec("create table member (id integer primary key, name text not null); insert into member values (1, 'Ines Brandt')")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	p, err := project.Open(dir)
	require.NoError(t, err)
	ask, ctx := Ask(t.Context(), p), t.Context()

	d, err := ask.Data(ctx, "members")
	require.NoError(t, err)
	assert.Equal(t, "SQL", d.Language)
	assert.Equal(t, "member", d.Collections[0].Title)
	page, err := ask.Items(ctx, "members", store.Query{Collection: "member", Limit: 10})
	require.NoError(t, err)
	item, err := ask.Item(ctx, "members", "member", page.Rows[0].Key)
	require.NoError(t, err)
	assert.Equal(t, "Ines Brandt", item.Fields[1].Value.Text)
	actions, err := ask.Actions(ctx, "members", "member", page.Rows[0].Key)
	require.NoError(t, err)
	assert.Len(t, actions, 2)
	name := "Ines B."
	act := store.Act{Collection: "member", Key: page.Rows[0].Key, Action: store.Change, Values: map[string]*string{"name": &name}}
	plan, err := ask.Plan(ctx, "members", act)
	require.NoError(t, err)
	assert.Contains(t, plan.Statement, "UPDATE")
	says, err := ask.Act(ctx, "members", act)
	require.NoError(t, err)
	assert.Equal(t, "1 row changed", says)
	answer, err := ask.AskService(ctx, "members", store.Question{Statement: "delete from member"})
	require.NoError(t, err)
	assert.True(t, answer.Writes)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "m.csv"), []byte("name\nTomas Okafor\n\"\"\n"), 0o600))
	filled, err := ask.Fill(ctx, "members", Filling{Collection: "member", File: filepath.Join(dir, "m.csv"), Dry: true})
	require.NoError(t, err)
	assert.Equal(t, 2, filled.Rows)
	_, err = ask.Fill(ctx, "members", Filling{Collection: "member", File: filepath.Join(dir, "none.csv")})
	assert.ErrorIs(t, err, os.ErrNotExist)

	for service, says := range map[string]string{"shelf": "neighbour start shelf", "api": "into which one can't look", "nobody": "nobody"} {
		_, err := ask.Data(ctx, service)
		assert.ErrorContains(t, err, says)
		_, err = ask.Act(ctx, service, act)
		assert.ErrorContains(t, err, says)
	}
}
