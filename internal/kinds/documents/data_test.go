package documents

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	emulator "neighbour/internal/emulator/documents"
	"neighbour/internal/emulator/documents/engine"
)

// look opens a look into a server that runs beside.
func look(t *testing.T) *source {
	e, err := engine.Open(filepath.Join(t.TempDir(), "x.db"))
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s, err := emulator.NewServer(e, log.New(io.Discard, "", 0), emulator.Account{User: user, Password: "a/b c"}, nil)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	in := &kind.Instance{Service: &declare.Service{Name: "reviews", Settings: &Settings{}}, Project: "the.shed", Port: l.Addr().(*net.TCPAddr).Port, Run: t.TempDir(),
		Secret: func(string) (string, error) { return "a/b c", nil }}
	p, err := Kind{}.Probe(in)
	require.NoError(t, err)
	said, err := p.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "answers hello", said)
	opened, err := Kind{}.Source(in)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, opened.Close())
		cancel()
		assert.NoError(t, <-done)
		assert.NoError(t, e.Close())
	})
	return opened.(*source)
}

func (s *source) fill(t require.TestingT, collection string, documents ...string) {
	var rows []store.Filling
	for i, d := range documents {
		rows = append(rows, store.Filling{Line: i + 1, JSON: d})
	}
	done, err := s.Fill(context.Background(), collection, rows, false)
	require.NoError(t, err)
	require.Equal(t, len(documents), done.Rows)
}

func TestLooking(t *testing.T) {
	s := look(t)
	ctx := t.Context()
	all, err := s.Collections(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "database", all[0].Is, "a place to begin from")
	p, err := s.Items(ctx, store.Query{Collection: all[0].Name})
	require.NoError(t, err)
	assert.Empty(t, p.Rows)
	can, err := s.Actions(ctx, all[0].Name, "")
	require.NoError(t, err)
	assert.Equal(t, []string{store.Insert, misbehave.ActionName}, []string{can[0].Name, can[1].Name})
	tools := "tools"
	_, err = s.Do(ctx, store.Act{Collection: all[0].Name, Action: store.Insert, Values: map[string]*string{"collection": &tools}})
	require.NoError(t, err)
	_, err = s.Do(ctx, store.Act{Collection: "tools", Action: store.Clear})
	require.NoError(t, err)
	s.fill(t, "tools", `{"_id": 1, "name": "Drill", "price": 129.9, "tags": ["loud"], "at": {"$date": "2026-11-25T12:00:00Z"}}`,
		`{"_id": {"$oid": "656565656565656565656565"}, "name": "Saw", "size": {"w": 2}, "raw": {"$binary": {"base64": "AP8=", "subType": "00"}}}`, `{"_id": "x", "none": null}`)
	s.fill(t, "other.loans", `{"n": 1}`)
	all, err = s.Collections(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "the-shed.tools 3, other.loans 1", fmt.Sprintf("%s %d, %s %d", all[0].Name, all[0].Count, all[1].Name, all[1].Count), "the facts' database first")

	page, err := s.Items(ctx, store.Query{Collection: "tools", Limit: 9})
	require.NoError(t, err)
	var names []string
	for _, c := range page.Columns {
		names = append(names, c.Name)
	}
	assert.Equal(t, []string{"_id", "name", "price", "tags", "at", "none", "size", "raw"}, names)
	require.Len(t, page.Rows, 3)
	assert.Equal(t, store.Value{Text: "1", Is: store.Number}, page.Rows[0].Values[0])
	assert.Equal(t, store.Value{Text: `["loud"]`, Is: store.JSON}, page.Rows[0].Values[3])
	assert.Equal(t, store.Value{Text: "00ff", Is: store.Binary}, page.Rows[2].Values[7])
	item, err := s.Item(ctx, "tools", page.Rows[2].Key)
	require.NoError(t, err)
	assert.Equal(t, "656565656565656565656565", item.Says)

	for where, want := range map[string]int{"drill": 1, "LOUD": 1, "6565": 1, "nothing": 0, `{"price": {"$gt": 100}}`: 1, `{"_id": {"$type": "string"}}`: 1, ".*": 0} {
		page, err := s.Items(ctx, store.Query{Collection: "tools", Limit: 9, Where: where})
		require.NoError(t, err, where)
		assert.Len(t, page.Rows, want, where)
	}
	for where, says := range map[string]string{`{"a"`: "the filter is no JSON", `{"$where": "1"}`: "$where is not here"} {
		_, err := s.Items(ctx, store.Query{Collection: "tools", Limit: 9, Where: where})
		assert.ErrorContains(t, err, says)
	}
	var gone *store.GoneError
	_, err = s.Items(ctx, store.Query{Collection: "nothing"})
	assert.ErrorAs(t, err, &gone)
	_, err = s.Item(ctx, "tools", store.KeyFor(`{"_id": 77}`))
	assert.ErrorAs(t, err, &gone)
	_, err = s.Items(ctx, store.Query{Collection: "a.b.c"})
	assert.ErrorAs(t, err, &gone)
}

func TestActing(t *testing.T) {
	s := look(t)
	ctx := t.Context()
	s.fill(t, "tools", `{"_id": 1, "name": "12", "n": 1, "at": {"$date": "2026-11-25T12:00:00Z"}}`)
	key := store.KeyFor(`{"_id":1}`)
	text := func(s string) *string { return &s }
	offered, err := s.Actions(ctx, "tools", key)
	require.NoError(t, err)
	assert.Len(t, offered[0].Inputs, 3)
	change := store.Act{Collection: "tools", Key: key, Action: store.Change, Values: map[string]*string{"name": text("13"), "n": text("2.5"), "at": text("2026-12-24T00:00:00Z"), "more": text(`{"a": [1]}`), "gone": nil}}
	plan, err := s.Plan(ctx, change)
	require.NoError(t, err)
	assert.Contains(t, plan.Statement, `"$set"`)
	says, err := s.Do(ctx, change)
	require.NoError(t, err)
	assert.Equal(t, "1 document changed", says)
	page, err := s.Items(ctx, store.Query{Collection: "tools", Limit: 9, Wide: store.ValueLimit})
	require.NoError(t, err)
	assert.Equal(t, `{"_id":1,"name":"13","n":2.5,"at":{"$date":"2026-12-24T00:00:00Z"},"gone":null,"more":{"a":[1]}}`, page.Rows[0].Whole, "a text stays one")

	do := func(a store.Act) string {
		a.Collection = "tools"
		says, err := s.Do(ctx, a)
		if err != nil {
			return err.Error()
		}
		return says
	}
	insert := func(d string) store.Act {
		return store.Act{Action: store.Insert, Values: map[string]*string{"document": &d}}
	}
	assert.Equal(t, "1 document added", do(insert(`{"_id": 2}`)))
	assert.Contains(t, do(insert(`{"_id": 2}`)), "E11000")
	assert.Contains(t, do(insert(`{`)), "a document in JSON is expected")
	assert.Equal(t, "1 document deleted", do(store.Act{Action: store.Delete, Key: key}))
	assert.Equal(t, "the document 1 is not there", do(store.Act{Action: store.Delete, Key: key}))
	plan, err = s.Plan(ctx, store.Act{Collection: "tools", Action: drop})
	require.NoError(t, err)
	assert.Equal(t, "1 document of the-shed.tools", plan.Loses)
	assert.Equal(t, "1 document deleted", do(store.Act{Action: store.Clear}))
	assert.Equal(t, "the-shed.tools is gone", do(store.Act{Action: drop}))
	assert.Equal(t, "until its next start it is full", do(store.Act{Action: misbehave.ActionName, Values: map[string]*string{"full": text("yes")}}))
	assert.Equal(t, "1 document added", do(insert(`{"_id": 3}`)), "it behaves to who looks")

	// What comes from a file comes wholly or not at all.
	done, err := s.Fill(ctx, "tools", []store.Filling{{Line: 1, JSON: `{"_id": 4}`}, {Line: 2, JSON: `{"_id": {"$oid": "zz"}}`}}, false)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Wrong)
	assert.Equal(t, 2, done.Problems[0].Line)
	_, err = s.Fill(ctx, "tools", []store.Filling{{Line: 1, JSON: `{"_id": 4}`}, {Line: 2, JSON: `{"_id": 3}`}}, false)
	assert.ErrorContains(t, err, "E11000")
	_, err = s.Fill(ctx, "tools", []store.Filling{{Line: 2, Values: map[string]*string{"_id": text("5"), "name": text("007"), "none": nil}}}, false)
	require.NoError(t, err)
	answer, err := s.Ask(ctx, store.Question{Statement: `{"find": "tools"}`})
	require.NoError(t, err)
	require.Len(t, answer.Rows, 2)
	assert.Equal(t, "5 007 ", answer.Rows[1].Values[0].Text+" "+answer.Rows[1].Values[1].Text+" "+answer.Rows[1].Values[2].Text)
	for question, want := range map[string]string{`{"count": "tools"}`: "n", `{"distinct": "tools", "key": "_id"}`: "value", `{"aggregate": "tools", "pipeline": [{"$group": {"_id": null, "n": {"$sum": 1}}}]}`: "_id"} {
		answer, err := s.Ask(ctx, store.Question{Statement: question})
		require.NoError(t, err, question)
		assert.Equal(t, want, answer.Columns[0].Name)
	}
	var writes *store.WritesError
	for _, question := range []string{`{"drop": "tools"}`, `{"aggregate": "tools", "pipeline": [{"$out": "x"}]}`, `{"insert": "tools", "documents": [{}]}`} {
		_, err := s.Ask(ctx, store.Question{Statement: question})
		assert.ErrorAs(t, err, &writes, question)
	}
	_, err = s.Ask(ctx, store.Question{Statement: "select 1"})
	assert.ErrorContains(t, err, "a command in JSON is expected")
	described, err := s.Describe(ctx, "tools")
	require.NoError(t, err)
	assert.Equal(t, "1 index", described.Says)
}

// Pages give every document once, whatever types the _ids have, from both ends.
func TestPages(t *testing.T) {
	s := look(t)
	n := 0
	rapid.Check(t, func(r *rapid.T) {
		n++
		collection := fmt.Sprintf("pages.c%d", n)
		ids := rapid.SliceOfNDistinct(rapid.OneOf(rapid.Map(rapid.IntRange(0, 5), func(i int) string { return fmt.Sprint(i) }), rapid.Map(rapid.StringMatching("[a-c]{1,2}"), func(s string) string { return `"` + s + `"` }),
			rapid.SampledFrom([]string{`null`, `true`, `{"$oid": "656565656565656565656565"}`, `{"a": 1}`, `{"$date": "2026-11-25T12:00:00Z"}`, `{"$minKey": 1}`})), 1, 9, rapid.ID).Draw(r, "ids")
		var documents []string
		for _, id := range ids {
			documents = append(documents, `{"_id": `+id+`}`)
		}
		s.fill(r, collection, documents...)
		whole, err := s.Items(context.Background(), store.Query{Collection: collection, Limit: 100})
		require.NoError(r, err)
		require.Len(r, whole.Rows, len(ids))
		var want []string
		for _, row := range whole.Rows {
			want = append(want, row.Key)
		}
		size := rapid.IntRange(1, 4).Draw(r, "size")
		for _, back := range []bool{false, true} {
			q := store.Query{Collection: collection, Limit: size, Back: back}
			var got []string
			for {
				p, err := s.Items(context.Background(), q)
				require.NoError(r, err)
				var keys []string
				for _, row := range p.Rows {
					keys = append(keys, row.Key)
				}
				if back {
					got = append(keys, got...)
				} else {
					got = append(got, keys...)
				}
				if !p.More {
					break
				}
				if q.After = p.Next; back {
					q.After = p.Prev
				}
			}
			require.Equal(r, strings.Join(want, "\n"), strings.Join(got, "\n"), "back: %v", back)
		}
	})
}

// A value that is shown and typed again is the same.
func TestTypedValues(t *testing.T) {
	for _, v := range []any{int32(5), int64(1) << 40, 1.5, true, "text", "12", `"quoted"`, bson.D{{Key: "a", Value: bson.A{int32(1)}}}, bson.DateTime(1_700_000_000_123), bson.NewObjectID()} {
		b, err := bson.Marshal(bson.D{{Key: "v", Value: v}})
		require.NoError(t, err)
		was := bson.Raw(b).Lookup("v")
		now, err := written(valueOf(was, store.ValueLimit).Text, was)
		require.NoError(t, err)
		assert.True(t, was.Equal(now) || was.Type == bson.TypeInt64, "%v became %v", was, now)
	}
}
