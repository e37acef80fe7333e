package static

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
)

// The folder is shown as far as it is served: no dot files, no links out of it.
func TestFolder(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("dist/index.html", "<h1>Shed</h1>")
	write("dist/img/a.b.png", "\x89PNG\xff")
	write("dist/.env", "SECRET=1")
	write("dist/.git/config", "x")
	write("secret.txt", "x")
	require.NoError(t, os.Symlink(filepath.Join(dir, "secret.txt"), filepath.Join(dir, "dist/link.txt")))
	require.NoError(t, os.Symlink(dir, filepath.Join(dir, "dist/out")))
	s, err := Kind{}.Source(&kind.Instance{Root: dir, Service: &declare.Service{Settings: &Settings{Root: "dist"}}})
	require.NoError(t, err)
	all, err := s.Collections(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "/", all[0].Title)
	assert.EqualValues(t, 1, all[0].Count)
	assert.Equal(t, "img", all[1].Name)
	p, err := s.Items(t.Context(), store.Query{Collection: all[0].Name, Limit: 10})
	require.NoError(t, err)
	require.Len(t, p.Rows, 1)
	it, err := s.Item(t.Context(), all[0].Name, p.Rows[0].Key)
	require.NoError(t, err)
	assert.Equal(t, "<h1>Shed</h1>", it.Fields[0].Value.Text)
	it, err = s.Item(t.Context(), "img", `["a.b.png"]`)
	require.NoError(t, err)
	assert.Equal(t, store.Value{Text: "89504e47ff", Is: store.Binary}, it.Fields[0].Value)
	for _, one := range [][2]string{{all[0].Name, ".env"}, {all[0].Name, "link.txt"}, {all[0].Name, "../secret.txt"}, {".git", "config"}, {`"../"`, "secret.txt"}, {"out", "secret.txt"}, {"none", "x"}} {
		_, err := s.Item(t.Context(), one[0], store.KeyFor(one[1]))
		assert.Error(t, err, one)
	}
	_, err = s.Items(t.Context(), store.Query{Collection: "out", Limit: 10})
	assert.Error(t, err)
}

func TestMisbehaviour(t *testing.T) {
	in := &kind.Instance{Root: t.TempDir(), Run: t.TempDir(), Service: &declare.Service{Settings: &Settings{Root: "."}}}
	s, err := Kind{}.Source(in)
	require.NoError(t, err)
	a := s.(store.Actor)
	can, err := a.Actions(t.Context(), ".", "")
	require.NoError(t, err)
	require.Len(t, can, 1)
	var inputs []string
	for _, i := range can[0].Inputs {
		inputs = append(inputs, i.Name)
	}
	assert.Equal(t, []string{"slow", "spread", "errors", "throttled", "cut", "clock"}, inputs)
	slow := "200ms"
	said, err := a.Do(t.Context(), store.Act{Action: misbehave.ActionName, Values: map[string]*string{"slow": &slow}})
	require.NoError(t, err)
	assert.Equal(t, "until its next start it waits 200ms before each answer", said)
	assert.Equal(t, "waits 200ms before each answer", Kind{}.Misbehaves(in))
	_, err = a.Do(t.Context(), store.Act{Action: store.Clear})
	assert.ErrorContains(t, err, "changed where they are made")

	reported := map[string]string{}
	(&Settings{Root: ".", Misbehave: misbehave.Rules{Full: true, Cut: 101}}).Check(func(key, message, _ string) { reported[key] = message })
	assert.Contains(t, reported["misbehave.full"], "means nothing here")
	assert.Contains(t, reported["misbehave.cut"], "101")
}
