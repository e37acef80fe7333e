package objects

import (
	"context"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	emulator "neighbour/internal/emulator/objects"
)

// look opens a look into a server that runs beside, with a bucket.
func look(t *testing.T) *source {
	objects, err := emulator.OpenStore(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, objects.SaveBucket(t.Context(), emulator.Bucket{Name: "photos", Public: true}))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &emulator.Server{Store: objects, Log: log.New(io.Discard, "", 0), Keys: emulator.Keys{Access: access, Secret: "a/b+c"}, Region: region}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	in := &kind.Instance{Service: &declare.Service{Name: "photos", Settings: &Settings{Buckets: []string{"photos"}}}, Port: l.Addr().(*net.TCPAddr).Port, Run: t.TempDir(), Root: t.TempDir(),
		Secret: func(string) (string, error) { return "a/b+c", nil }}
	p, err := Kind{}.Probe(in)
	require.NoError(t, err)
	_, err = p.Check(t.Context())
	require.NoError(t, err)
	facts, err := Kind{}.Facts(in)
	require.NoError(t, err)
	assert.Equal(t, facts["url"].Value+"/photos", facts["photos.url"].Value)
	opened, err := Kind{}.Source(in)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, opened.Close())
		cancel()
		assert.NoError(t, <-done)
		assert.NoError(t, objects.Close())
	})
	return opened.(*source)
}

func TestBucketsAsData(t *testing.T) {
	s := look(t)
	ctx := t.Context()
	text := func(s string) *string { return &s }
	require.NoError(t, os.WriteFile(filepath.Join(s.root, "drill.txt"), []byte("A drill, 129 €.\n"), 0o600))
	do := func(a store.Act) string {
		a.Collection = "photos"
		if _, err := s.Plan(ctx, a); err != nil {
			return "plan: " + err.Error()
		}
		says, err := s.Do(ctx, a)
		if err != nil {
			return err.Error()
		}
		return says
	}
	put := func(file, key string) store.Act {
		return store.Act{Action: store.Insert, Values: map[string]*string{"file": &file, "key": &key}}
	}
	for _, key := range []string{"", "tools/a b+ü?.txt", "tools/2", "other"} {
		assert.Equal(t, "1 object put", do(put("drill.txt", key)))
	}
	assert.Contains(t, do(put("none", "x")), "no such file")
	assert.Contains(t, do(put(".", "x")), "is no file")
	all, err := s.Collections(ctx)
	require.NoError(t, err)
	assert.Equal(t, "photos", all[0].Title)
	assert.EqualValues(t, 4, all[0].Count)
	assert.EqualValues(t, 4*18, all[0].Bytes)
	keys := func(where string) string {
		var out []string
		q := store.Query{Collection: "photos", Where: where, Limit: 1}
		for {
			p, err := s.Items(ctx, q)
			require.NoError(t, err)
			for _, r := range p.Rows {
				out = append(out, r.Values[0].Text)
			}
			if !p.More {
				return strings.Join(out, ", ")
			}
			q.After = p.Next
		}
	}
	assert.Equal(t, "drill.txt, other, tools/2, tools/a b+ü?.txt", keys(""))
	assert.Equal(t, "tools/2, tools/a b+ü?.txt", keys("tools/"))
	assert.Equal(t, "drill.txt", keys("dr*"))
	assert.Equal(t, "other, tools/2, tools/a b+ü?.txt", keys("O"))
	odd := store.KeyFor("tools/a b+ü?.txt")
	item, err := s.Item(ctx, "photos", odd)
	require.NoError(t, err)
	fields := map[string]string{}
	for _, f := range item.Fields {
		fields[f.Column.Name] = f.Value.Text
	}
	assert.Equal(t, "A drill, 129 €.\n", fields["holds"])
	assert.Equal(t, "text/plain; charset=utf-8", fields["type"])
	answer, err := http.Get(fields["link"])
	require.NoError(t, err)
	b, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	assert.Equal(t, "A drill, 129 €.\n", string(b), "to whoever has the link")

	folder := t.TempDir()
	saved := store.Act{Action: save, Key: odd, Values: map[string]*string{"folder": &folder}}
	assert.Contains(t, do(saved), "saved as ")
	assert.Contains(t, do(saved), "is there already")
	_, err = os.Stat(filepath.Join(folder, "a b+ü?.txt"))
	require.NoError(t, err)
	var gone *store.GoneError
	assert.Equal(t, "1 object deleted", do(store.Act{Action: store.Delete, Key: odd}))
	_, err = s.Item(ctx, "photos", odd)
	assert.ErrorAs(t, err, &gone)
	_, err = s.Items(ctx, store.Query{Collection: "nothing", Limit: 1})
	assert.ErrorAs(t, err, &gone)
	plan, err := s.Plan(ctx, store.Act{Collection: "photos", Action: store.Clear})
	require.NoError(t, err)
	assert.Equal(t, "3 objects of photos", plan.Loses)
	assert.Equal(t, "3 objects deleted", do(store.Act{Action: store.Clear}))
	assert.Equal(t, "until its next start it is read only", do(store.Act{Action: misbehave.ActionName, Values: map[string]*string{"read_only": text("yes")}}))
	assert.Equal(t, "1 object put", do(put("drill.txt", "")), "it behaves to who looks")
}

func TestSettings(t *testing.T) {
	for says, s := range map[string]Settings{
		`buckets[0] "A" is no name of a bucket`: {Buckets: []string{"A"}}, `buckets[1] "abc" is there twice`: {Buckets: []string{"abc", "abc"}},
		`public[0] "abc" is none of the buckets`: {Public: []string{"abc"}}, `fill.abc "abc" is none of the buckets`: {Fill: map[string]string{"abc": "x"}},
		`misbehave.cut 101 is not how many`: {Misbehave: misbehave.Rules{Cut: 101}},
	} {
		var got []string
		s.Check(func(key, message, _ string) { got = append(got, key+" "+message) })
		require.Len(t, got, 1)
		assert.Contains(t, got[0], says)
	}
	s := Settings{Buckets: []string{"tools", "x.y"}, Public: []string{"tools"}}
	s.Check(func(key, message, _ string) { t.Error(key, message) })
	assert.Equal(t, []string{"tools.url", "x.y.url"}, s.FactNames())
}
