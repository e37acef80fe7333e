package engine_test

import (
	"context"
	"fmt"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/doctest"
	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

func index(t require.TestingT, e *engine.Engine, spec string) {
	_, _, _, err := e.Index(context.Background(), tools, []bson.Raw{doctest.JSON(t, spec)})
	require.NoError(t, err, spec)
}

// leaf is a value of the sorts that indexes tell apart.
func leaf() *rapid.Generator[any] {
	return rapid.SampledFrom([]any{nil, int32(0), int32(1), int64(2), 1.5, -3.0, "", "a", "b", "ab", true, false, bson.DateTime(5), bson.DateTime(-5), bson.D{{Key: "x", Value: int32(1)}}, bson.MinKey{}, bson.MaxKey{}})
}

func anyField() *rapid.Generator[any] {
	return rapid.OneOf(leaf(), leaf(), rapid.Map(rapid.SliceOfN(leaf(), 0, 3), func(all []any) any { return bson.A(all) }),
		rapid.Map(rapid.SliceOfN(leaf(), 1, 2), func(all []any) any {
			list := bson.A{}
			for _, v := range all {
				list = append(list, bson.D{{Key: "x", Value: v}})
			}
			return list
		}))
}

// Whatever indexes there are, a filter finds the documents that a look at all of them
// finds, in the order of the sort, and in pages of any size.
func TestIndexesFindTheSame(t *testing.T) {
	dir := t.TempDir()
	n, used := 0, 0
	rapid.Check(t, func(r *rapid.T) {
		n++
		e, err := engine.Open(filepath.Join(dir, fmt.Sprint(n)))
		require.NoError(r, err)
		defer e.Close()
		var all []bson.Raw
		for id := range rapid.IntRange(0, 15).Draw(r, "documents") {
			d := bson.D{{Key: "_id", Value: int32(id)}}
			for _, name := range []string{"a", "b"} {
				if rapid.IntRange(0, 4).Draw(r, "has") > 0 {
					d = append(d, bson.E{Key: name, Value: anyField().Draw(r, name)})
				}
			}
			b, err := bson.Marshal(d)
			require.NoError(r, err)
			all = append(all, b)
		}
		half := len(all) / 2
		_, _, err = add(e, all[:half]...)
		require.NoError(r, err)
		path := rapid.SampledFrom([]string{"a", "b", "a.x", "_id"})
		for i := range rapid.IntRange(1, 2).Draw(r, "indexes") {
			key := bson.D{}
			for _, p := range rapid.SliceOfNDistinct(path, 1, 2, rapid.ID).Draw(r, "key") {
				key = append(key, bson.E{Key: p, Value: rapid.SampledFrom([]int32{1, -1}).Draw(r, "direction")})
			}
			spec := bson.D{{Key: "key", Value: key}, {Key: "name", Value: fmt.Sprint("i", i)}}
			switch rapid.IntRange(0, 5).Draw(r, "sort of index") {
			case 0:
				spec = append(spec, bson.E{Key: "sparse", Value: true})
			case 1:
				spec = append(spec, bson.E{Key: "partialFilterExpression", Value: bson.D{{Key: "a", Value: rapid.SampledFrom([]any{bson.D{{Key: "$gt", Value: int32(0)}}, bson.D{{Key: "$exists", Value: true}}, "a"}).Draw(r, "partial")}}})
			}
			b, err := bson.Marshal(spec)
			require.NoError(r, err)
			if _, _, _, err := e.Index(context.Background(), tools, []bson.Raw{b}); err != nil {
				var f *fault.Error
				require.ErrorAs(r, err, &f)
				require.Contains(r, []int32{171, 85, 86}, f.Code, err)
			}
		}
		_, _, err = add(e, all[half:]...)
		require.NoError(r, err)
		if rapid.Bool().Draw(r, "change") {
			_, err = change(e, engine.Update{Find: engine.Find{Filter: doctest.JSON(r, `{"_id": {"$lt": 4}}`)}, Update: value.OfDocument(doctest.JSON(r, `{"$set": {"b": 1}, "$unset": {"a": 1}}`)), Many: true})
			require.NoError(r, err)
			_, err = remove(e, doctest.JSON(r, `{"_id": 1}`), true)
			require.NoError(r, err)
		}
		filter := bson.D{}
		for range rapid.IntRange(0, 3).Draw(r, "conditions") {
			var is any = leaf().Draw(r, "value")
			switch op := rapid.SampledFrom([]string{"", "$eq", "$gt", "$gte", "$lt", "$lte", "$in", "$exists", "$ne", "both"}).Draw(r, "operator"); op {
			case "":
			case "$in":
				is = bson.D{{Key: op, Value: bson.A{is, leaf().Draw(r, "other")}}}
			case "$exists":
				is = bson.D{{Key: op, Value: true}}
			case "both":
				is = bson.D{{Key: "$gte", Value: is}, {Key: "$lte", Value: leaf().Draw(r, "to")}}
			default:
				is = bson.D{{Key: op, Value: is}}
			}
			filter = append(filter, bson.E{Key: "$and", Value: bson.A{bson.D{{Key: path.Draw(r, "path"), Value: is}}}})
		}
		if len(filter) > 1 { // one $and of all
			parts := bson.A{}
			for _, f := range filter {
				parts = append(parts, f.Value.(bson.A)...)
			}
			filter = bson.D{{Key: "$and", Value: parts}}
		}
		f := engine.Find{}
		f.Filter, err = bson.Marshal(filter)
		require.NoError(r, err)
		page := rapid.IntRange(1, 4).Draw(r, "page")
		sorted := func(text string) string {
			all := strings.Fields(text)
			sort.Strings(all)
			return strings.Join(all, " ")
		}
		looked := f
		looked.Hint = "$natural"
		require.Equal(r, sorted(ids(r, e, looked, 100)), sorted(ids(r, e, f, page)), "%s", f.Filter)
		x, err := e.Explain(context.Background(), tools, f)
		require.NoError(r, err)
		if x.Index != "" {
			used++
		}
		// Sorted by all that there is, the order is the same, too.
		f.Sort = doctest.JSON(r, fmt.Sprintf(`{%q: %d, "_id": %d}`, path.Filter(func(p string) bool { return p != "_id" }).Draw(r, "by"), rapid.SampledFrom([]int{1, -1}).Draw(r, "up"), rapid.SampledFrom([]int{1, -1}).Draw(r, "up")))
		looked.Sort = f.Sort
		require.Equal(r, ids(r, e, looked, 100), ids(r, e, f, page), "%s by %s", f.Filter, f.Sort)
	})
	assert.Positive(t, used)
	t.Logf("%d of %d finds used an index", used, n)
}

func TestIndexes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	e := open(t, file)
	ctx := context.Background()
	insert(t, e, `{"_id": 1, "email": "ines@toolshed.example", "at": 5}`, `{"_id": 2, "at": 3, "tags": ["a", "b"]}`)
	_, _, _, err := e.Index(ctx, tools, []bson.Raw{doctest.JSON(t, `{"key": {"_id": 1}, "name": "x"}`)})
	require.NoError(t, err, "which is there")
	index(t, e, `{"key": {"email": 1}, "unique": true, "sparse": true}`)
	index(t, e, `{"key": {"tags": 1, "at": -1}}`)
	insert(t, e, `{"_id": 3, "at": 9}`)
	refused := func(text string) *fault.Error {
		t.Helper()
		_, refused, err := add(e, doctest.JSON(t, text))
		require.NoError(t, err)
		require.Len(t, refused, 1)
		return refused[0].Err
	}
	assert.Equal(t, `E11000 duplicate key error collection: shed.tools index: email_1 dup key: { email: "ines@toolshed.example" }`, refused(`{"_id": 4, "email": "ines@toolshed.example"}`).Message)
	_, err = change(e, updating(t, `{"_id": 3}`, `{"$set": {"email": "ines@toolshed.example"}}`))
	assert.ErrorContains(t, err, "E11000")
	_, err = change(e, updating(t, `{"_id": 1}`, `{"$set": {"email": "mara@toolshed.example"}}`))
	require.NoError(t, err)
	insert(t, e, `{"_id": 5, "email": "ines@toolshed.example"}`)
	assert.Equal(t, int32(171), refused(`{"tags": [1], "at": [2]}`).Code)

	for filter, want := range map[string]engine.Explanation{
		`{"email": "mara@toolshed.example"}`: {Index: "email_1", Unique: true, Documents: 1, Examined: engine.Examined{Keys: 1, Documents: 1}},
		`{"email": null}`:                    {Documents: 2, Examined: engine.Examined{Documents: 4}},
		`{"tags": "a"}`:                      {Index: "tags_1_at_-1", Multikey: true, Documents: 1, Examined: engine.Examined{Keys: 1, Documents: 1}},
		`{"tags": {"$in": ["a", "b"]}}`:      {Index: "tags_1_at_-1", Multikey: true, Documents: 1, Examined: engine.Examined{Keys: 2, Documents: 1}},
		`{"_id": {"$gte": 2, "$lt": 5}}`:     {Index: "_id_", Unique: true, Documents: 2, Examined: engine.Examined{Keys: 2, Documents: 2}},
		`{"at": 3}`:                          {Documents: 1, Examined: engine.Examined{Documents: 4}},
	} {
		x, err := e.Explain(ctx, tools, engine.Find{Filter: doctest.JSON(t, filter)})
		require.NoError(t, err)
		x.Pattern = bson.RawValue{}
		assert.Equal(t, want, x, filter)
	}
	x, err := e.Explain(ctx, tools, engine.Find{Sort: doctest.JSON(t, `{"_id": -1}`), Limit: 2})
	require.NoError(t, err)
	assert.True(t, x.Back && !x.Sorts && x.Examined.Keys == 2, "%+v", x)

	// They are there, and hold, after the file was opened again.
	require.NoError(t, e.Close())
	e = open(t, file)
	assert.Len(t, e.Indexes(tools), 3)
	assert.Contains(t, refused(`{"_id": 6, "email": "ines@toolshed.example"}`).Message, "E11000")
	was, err := e.DropIndexes(ctx, tools, value.Of("email_1"))
	require.NoError(t, err)
	assert.Equal(t, 3, was)
	insert(t, e, `{"_id": 6, "email": "ines@toolshed.example"}`)
	_, _, _, err = e.Index(ctx, tools, []bson.Raw{doctest.JSON(t, `{"key": {"email": 1}, "unique": true}`)})
	assert.ErrorContains(t, err, "E11000", "what is there forbids it")
	assert.Len(t, e.Indexes(tools), 2, "so it isn't made")
	for spec, says := range map[string]string{
		`{"key": {}}`:                                               "at least one field",
		`{"key": {"a": "2dsphere"}}`:                                `indexes of the kind "2dsphere" are not here`,
		`{"key": {"a": 1}, "foo": 1}`:                               "the option foo of an index is not here",
		`{"key": {"a": 1, "b": 1}, "name": "tags_1_at_-1"}`:         "An existing index has the same name",
		`{"key": {"a": 1, "b": 1}, "expireAfterSeconds": 1}`:        "TTL indexes are single-field indexes",
		`{"key": {"a": 1}, "partialFilterExpression": {"$foo": 1}}`: "unknown top level operator: $foo",
	} {
		_, _, _, err := e.Index(ctx, tools, []bson.Raw{doctest.JSON(t, spec)})
		assert.ErrorContains(t, err, says, spec)
	}
}

func TestExpiry(t *testing.T) {
	e := open(t, filepath.Join(t.TempDir(), "x.db"))
	index(t, e, `{"key": {"at": 1}, "expireAfterSeconds": 60}`)
	now := time.Now()
	var all []bson.Raw
	for id, at := range []any{now.Add(-61 * time.Second), now.Add(-59 * time.Second), "then", nil, bson.A{now, now.Add(-time.Hour)}} {
		b, err := bson.Marshal(bson.D{{Key: "_id", Value: id}, {Key: "at", Value: at}})
		require.NoError(t, err)
		all = append(all, b)
	}
	_, _, err := add(e, all...)
	require.NoError(t, err)
	n, err := e.Expire(context.Background(), now)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Equal(t, "1 2 3", ids(t, e, engine.Find{}, 9))
}

// A transaction sees what was, and what it has written; others see that at its end.
func TestTransactions(t *testing.T) {
	e := open(t, filepath.Join(t.TempDir(), "x.db"))
	ctx := context.Background()
	insert(t, e, `{"_id": 1, "n": 1}`, `{"_id": 2, "n": 2}`, `{"_id": 3, "n": 3}`)
	index(t, e, `{"key": {"n": 1}, "unique": true}`)
	begin := func() *engine.Transaction {
		tx, err := e.Begin(ctx)
		require.NoError(t, err)
		return tx
	}
	seen := func(tx *engine.Transaction, f engine.Find) string {
		c, err := tx.Open(ctx, tools, f)
		require.NoError(t, err)
		all, _, err := c.Next(ctx, 100, 1<<20)
		require.NoError(t, err)
		var out []string
		for _, d := range all {
			out = append(out, fmt.Sprintf("%d:%d", d.Lookup("_id").AsInt64(), d.Lookup("n").AsInt64()))
		}
		return strings.Join(out, " ")
	}
	by := engine.Find{Sort: doctest.JSON(t, `{"n": 1}`)}
	code := func(err error) int32 {
		var f *fault.Error
		require.ErrorAs(t, err, &f)
		return f.Code
	}

	tx := begin()
	_, err := tx.Writer().Update(ctx, tools, updating(t, `{"_id": 1}`, `{"$inc": {"n": 9}}`))
	require.NoError(t, err)
	require.NoError(t, tx.Writer().Insert(ctx, tools, doctest.JSON(t, `{"_id": 4, "n": 1}`)), "which it has made free")
	_, _, err = tx.Writer().Remove(ctx, tools, engine.Find{Filter: doctest.JSON(t, `{"n": 2}`)}, true)
	require.NoError(t, err)
	_, err = change(e, updating(t, `{"_id": 3}`, `{"$set": {"n": 33}}`))
	require.NoError(t, err, "others write what it doesn't")
	assert.Equal(t, "4:1 3:3 1:10", seen(tx, by))
	assert.Equal(t, "1:10", seen(tx, engine.Find{Filter: doctest.JSON(t, `{"n": 10}`)}))
	assert.Equal(t, "1 2 3", ids(t, e, engine.Find{}, 9), "and see nothing of it")

	other := begin()
	_, err = other.Writer().Update(ctx, tools, updating(t, `{"_id": 1}`, `{"$set": {"n": 7}}`))
	assert.Equal(t, int32(112), code(err), "two can't change the same")
	other.Abort()
	_, err = tx.Writer().Update(ctx, tools, updating(t, `{"_id": 3}`, `{"$set": {"n": 34}}`))
	assert.Equal(t, int32(112), code(err), "nor what was changed since its beginning")

	waited := make(chan error, 1)
	go func() { _, err := change(e, updating(t, `{"_id": 1}`, `{"$inc": {"n": 100}}`)); waited <- err }()
	select {
	case err := <-waited:
		t.Fatalf("a write of what the transaction has written did not wait: %v", err)
	case <-time.After(100 * time.Millisecond):
	}
	require.NoError(t, tx.Commit(ctx))
	require.NoError(t, <-waited)
	assert.Equal(t, "1 3 4", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"n": {"$in": [110, 1, 33]}}`), Sort: doctest.JSON(t, `{"_id": 1}`)}, 9))

	// Of one that is not committed nothing is left, and nobody waits for it any more.
	tx = begin()
	require.NoError(t, tx.Writer().Insert(ctx, tools, doctest.JSON(t, `{"_id": 5, "n": 5}`)))
	tx.Abort()
	insert(t, e, `{"_id": 5, "n": 50}`)
	tx = begin()
	err = tx.Writer().Insert(ctx, tools, doctest.JSON(t, `{"_id": 6, "n": 50}`))
	assert.ErrorContains(t, err, "E11000")
	tx.Abort()
	// An index may be in the way only at the end.
	tx = begin()
	require.NoError(t, tx.Writer().Insert(ctx, tools, doctest.JSON(t, `{"_id": 6, "n": 60}`)))
	insert(t, e, `{"_id": 7, "n": 60}`)
	assert.Equal(t, int32(112), code(tx.Commit(ctx)))
	assert.Equal(t, "1 3 4 5 7", ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"_id": 1}`)}, 9))
}

// However many transactions begin at the same time, each comes to its end, and so do those that
// read beside them; one that is told to wait no longer doesn't.
func TestTransactionsAtOnce(t *testing.T) {
	e := open(t, filepath.Join(t.TempDir(), "x.db"))
	ctx, cancel := context.WithCancel(context.Background())
	var open []*engine.Transaction
	for range 64 {
		tx, err := e.Begin(ctx)
		require.NoError(t, err)
		open = append(open, tx)
	}
	refused := make(chan error, 1)
	go func() { _, err := e.Begin(ctx); refused <- err }()
	cancel()
	require.ErrorIs(t, <-refused, context.Canceled)
	var all sync.WaitGroup
	for i := range 200 {
		all.Go(func() {
			tx, err := e.Begin(context.Background())
			if assert.NoError(t, err) && assert.NoError(t, tx.Writer().Insert(context.Background(), tools, doctest.JSON(t, fmt.Sprintf(`{"_id": %d}`, i)))) {
				assert.NoError(t, tx.Commit(context.Background()))
			}
		})
		all.Go(func() { ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"_id": -1}`)}, 50) })
	}
	for _, tx := range open {
		tx.Abort()
	}
	all.Wait()
	assert.Len(t, strings.Fields(ids(t, e, engine.Find{}, 7)), 200)
}

// A write that is sent again is answered, and not made again: after a kill, too.
func TestWritesSentAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	e := open(t, file)
	ctx := context.Background()
	insert(t, e, `{"_id": 1, "n": 0}`)
	send := func(number int64) (bson.Raw, error) {
		return e.Write(ctx, engine.Retry{Session: []byte("s"), Number: number}, func(w *engine.Writer) (bson.D, error) {
			done, err := w.Update(ctx, tools, updating(t, `{"_id": 1}`, `{"$inc": {"n": 1}}`))
			return bson.D{{Key: "n", Value: int32(done.Modified)}}, err
		})
	}
	first, err := send(1)
	require.NoError(t, err)
	again, err := send(1)
	require.NoError(t, err)
	assert.Equal(t, first, again)
	require.NoError(t, e.Close())
	e = open(t, file)
	_, err = send(1)
	require.NoError(t, err)
	_, err = send(2)
	require.NoError(t, err)
	assert.Equal(t, "1", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"n": 2}`)}, 9))
	_, err = send(1)
	var f *fault.Error
	require.ErrorAs(t, err, &f)
	assert.Equal(t, int32(225), f.Code)
}
