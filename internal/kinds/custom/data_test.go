package custom_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

const listed = `
[kind.finder]
program = ["sh"]
run = "sleep 100"

[kind.shelf]
program = ["sh"]
run = "sleep 100"
env = { SHELF = "oak" }

[kind.shelf.data]
tools = '''printf '{"id": 1, "name": "hammer\\ndrill", "at": {"row": 2}}\n\n{"name": "saw", "lent": true, "id": 2.50}\n{"id": null}\n' '''
many = "seq -f '{\"n\":%.0f}' 1 100000"
own = "echo {\\\"shelf\\\": \\\"$SHELF\\\", \\\"name\\\": \\\"${self.name}\\\"}"
wrong = "echo {}; echo no"
fails = "echo sorry >&2; exit 3"

[service.bare]
kind = "finder"

[service.tools]
kind = "shelf"
`

// What a kind declares to list is looked into like any other service's data, page by
// page; a command that fails says why.
func TestDeclaredData(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, declare.FileName), []byte(listed), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	require.NoError(t, p.Agree())
	_, holds := p.Kind(p.Service("bare")).(kind.Holding)
	assert.False(t, holds, "one that declares nothing holds nothing")
	k := p.Kind(p.Service("tools")).(kind.Holding)
	in, err := p.Instance(p.Service("tools"))
	require.NoError(t, err)
	require.NoError(t, p.EnsureInstanceDirs(in))
	require.NoError(t, os.MkdirAll(filepath.Join(in.Data, "files"), 0o700))
	source, err := k.Source(in)
	require.NoError(t, err)
	ctx := context.Background()
	all, err := source.Collections(ctx)
	require.NoError(t, err)
	require.Len(t, all, 5)
	items := func(q store.Query) (string, store.Page) {
		page, err := source.Items(ctx, q)
		require.NoError(t, err)
		var b strings.Builder
		require.NoError(t, store.WriteObjects(&b, page.Columns, page.Rows))
		return b.String(), page
	}
	text, page := items(store.Query{Collection: "tools", Limit: 10})
	assert.Equal(t, `{"id":1,"name":"hammer\ndrill","at":{"row":2},"lent":null}`+"\n"+`{"id":2.50,"name":"saw","at":null,"lent":true}`+"\n"+`{"id":null,"name":null,"at":null,"lent":null}`+"\n", text)
	item, err := source.Item(ctx, "tools", page.Rows[1].Key)
	require.NoError(t, err)
	assert.Equal(t, "saw", item.Fields[0].Value.Text)
	text, _ = items(store.Query{Collection: "tools", Limit: 10, Where: "SAW"})
	assert.Equal(t, `{"name":"saw","lent":true,"id":2.50}`+"\n", text)
	text, _ = items(store.Query{Collection: "own", Limit: 10})
	assert.Equal(t, `{"shelf":"oak","name":"tools"}`+"\n", text)

	text, page = items(store.Query{Collection: "many", Limit: 2})
	assert.Equal(t, "{\"n\":1}\n{\"n\":2}\n", text)
	assert.True(t, page.More, "the command is ended when there is enough")
	text, page = items(store.Query{Collection: "many", Limit: 2, After: page.Next})
	assert.Equal(t, "{\"n\":3}\n{\"n\":4}\n", text)
	assert.True(t, page.More)
	_, page = items(store.Query{Collection: "many", Limit: 2, After: "99998"})
	assert.False(t, page.More)

	for collection, says := range map[string]string{"wrong": "line 2 of what it prints is no JSON object", "fails": "failed: exit status 3: sorry", "none": "a collection none is not there"} {
		_, err := source.Items(ctx, store.Query{Collection: collection, Limit: 10})
		assert.ErrorContains(t, err, says)
	}
	_, err = source.Item(ctx, "tools", `["9"]`)
	var gone *store.GoneError
	assert.ErrorAs(t, err, &gone)
	_, err = source.Item(ctx, "tools", page.Rows[0].Key)
	assert.ErrorAs(t, err, &gone)
}
