package engine_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/doctest"
	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

var tools = engine.Space{Database: "shed", Collection: "tools"}

func open(t testing.TB, file string) *engine.Engine {
	e, err := engine.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	return e
}

func insert(t require.TestingT, e *engine.Engine, texts ...string) {
	var all []bson.Raw
	for _, text := range texts {
		all = append(all, doctest.JSON(t, text))
	}
	n, refused, err := add(e, all...)
	require.NoError(t, err)
	require.Empty(t, refused)
	require.Equal(t, len(texts), n)
}

// add inserts what can be inserted.
func add(e *engine.Engine, all ...bson.Raw) (n int, refused []*engine.WriteError, err error) {
	_, err = e.Write(context.Background(), engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
		n, refused = 0, nil
		for i, d := range all {
			err := w.Insert(context.Background(), tools, d)
			var no *engine.WriteError
			var f *fault.Error
			switch {
			case !errors.As(err, &no) && errors.As(err, &f):
				refused = append(refused, &engine.WriteError{Index: i, Err: f})
			case errors.As(err, &no):
				no.Index = i
				refused = append(refused, no)
			case err != nil:
				return nil, err
			default:
				n++
			}
		}
		return bson.D{}, nil
	})
	return n, refused, err
}

func change(e *engine.Engine, u engine.Update) (done engine.Updated, err error) {
	_, err = e.Write(context.Background(), engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
		var err error
		done, err = w.Update(context.Background(), tools, u)
		return bson.D{}, err
	})
	done.Before, done.After = nil, nil
	return done, err
}

func remove(e *engine.Engine, filter bson.Raw, many bool) (n int, err error) {
	_, err = e.Write(context.Background(), engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
		var err error
		n, _, err = w.Remove(context.Background(), tools, engine.Find{Filter: filter}, many)
		return bson.D{}, err
	})
	return n, err
}

func updating(t require.TestingT, filter, text string) engine.Update {
	return engine.Update{Find: engine.Find{Filter: doctest.JSON(t, filter)}, Update: value.OfDocument(doctest.JSON(t, text))}
}

// ids are the _ids of what is found, by the cursor's pages.
func ids(t require.TestingT, e *engine.Engine, f engine.Find, page int) string {
	c, err := e.Open(context.Background(), tools, f)
	require.NoError(t, err)
	var out []string
	for more := true; more; {
		var all []bson.Raw
		all, more, err = c.Next(context.Background(), page, 1<<20)
		require.NoError(t, err)
		require.LessOrEqual(t, len(all), page)
		for _, d := range all {
			n, _ := value.Integer(d.Lookup("_id"))
			out = append(out, strconv.Itoa(int(n)))
		}
	}
	return strings.Join(out, " ")
}

func TestDocuments(t *testing.T) {
	file := filepath.Join(t.TempDir(), "100% ?#.db")
	e := open(t, file)
	ctx := context.Background()
	assert.Empty(t, ids(t, e, engine.Find{}, 10), "what isn't there is empty")
	insert(t, e, `{"_id": 3, "n": 1}`, `{"n": 2, "_id": 1}`, `{"_id": 2, "n": [5, 0]}`, `{"_id": 4}`)
	assert.Equal(t, "3 1 2 4", ids(t, e, engine.Find{}, 1), "in the order in which they came")
	assert.Equal(t, "1", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"_id": 1.0}`)}, 10))
	assert.Equal(t, "4 2 3 1", ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"n": 1}`)}, 3))
	assert.Equal(t, "2 1 3 4", ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"n": -1}`)}, 3))
	assert.Equal(t, "2 3", ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"n": 1, "_id": -1}`), Skip: 1, Limit: 2}, 1))
	assert.Equal(t, "1 2", ids(t, e, engine.Find{Skip: 1, Limit: 2}, 1))

	n, refused, err := add(e, doctest.JSON(t, `{"_id": 9}`), doctest.JSON(t, `{"_id": 3.0}`), doctest.JSON(t, `{"_id": [1]}`), doctest.JSON(t, `{"_id": 10}`))
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	require.Len(t, refused, 2)
	assert.Equal(t, 1, refused[0].Index)
	assert.Equal(t, int32(11000), refused[0].Err.Code)
	assert.Contains(t, refused[0].Err.Message, "E11000 duplicate key error collection: shed.tools index: _id_ dup key")
	assert.Equal(t, int32(53), refused[1].Err.Code)

	change := func(filter, text string, many, upsert bool) (engine.Updated, error) {
		u := updating(t, filter, text)
		u.Many, u.Upsert = many, upsert
		return change(e, u)
	}
	done, err := change(`{"_id": {"$gt": 2}}`, `{"$set": {"m": 1}}`, true, false)
	require.NoError(t, err)
	assert.Equal(t, engine.Updated{Matched: 4, Modified: 4}, done)
	done, err = change(`{"m": 1}`, `{"$set": {"m": 1}}`, false, false)
	require.NoError(t, err)
	assert.Equal(t, engine.Updated{Matched: 1}, done)
	_, err = change(`{}`, `{"$inc": {"n": 1}}`, true, false)
	require.Error(t, err, "one has an array there")
	assert.Equal(t, "3", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"n": 1}`)}, 9), "so none was changed")
	done, err = change(`{"_id": 20, "a.b": 5, "c": {"$gt": 1}, "$and": [{"d": {"$eq": 6}}]}`, `{"$set": {"e": 7}, "$setOnInsert": {"f": 8}}`, false, true)
	require.NoError(t, err)
	assert.Equal(t, int32(20), done.Upserted.Int32())
	assert.Equal(t, "20", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"_id": 20, "a.b": 5, "c": null, "d": 6, "e": 7, "f": 8}`)}, 9))
	done, err = change(`{"name": "new"}`, `{"x": 1}`, false, true)
	require.NoError(t, err)
	assert.Equal(t, bson.TypeObjectID, done.Upserted.Type)

	gone, err := remove(e, doctest.JSON(t, `{"m": 1}`), false)
	require.NoError(t, err)
	assert.Equal(t, 1, gone)
	gone, err = remove(e, doctest.JSON(t, `{"m": 1}`), true)
	require.NoError(t, err)
	assert.Equal(t, 3, gone)

	// What is there is there after the file was closed.
	before := ids(t, e, engine.Find{}, 100)
	require.NoError(t, e.Close())
	e = open(t, file)
	assert.Equal(t, before, ids(t, e, engine.Find{}, 100))
	assert.Equal(t, []string{"shed"}, e.Databases())
	c, err := e.Open(ctx, tools, engine.Find{})
	require.NoError(t, err)
	_, _, err = c.Next(ctx, 1, 1)
	require.NoError(t, err)
	was, _, err := e.Drop(ctx, tools)
	require.NoError(t, err)
	assert.True(t, was)
	_, _, err = c.Next(ctx, 1, 1)
	var f *fault.Error
	require.ErrorAs(t, err, &f)
	assert.Equal(t, int32(175), f.Code)
	assert.Empty(t, e.Collections("shed"))
}

func TestNames(t *testing.T) {
	e := open(t, filepath.Join(t.TempDir(), "x.db"))
	for _, s := range []engine.Space{{"", "a"}, {"a.b", "c"}, {"a", ""}, {"a", "b$c"}, {"a", "system.x"}, {"a/b", "c"}, {"a", strings.Repeat("x", 300)}} {
		_, err := e.Create(context.Background(), s)
		var f *fault.Error
		require.ErrorAs(t, err, &f, s)
		assert.Equal(t, int32(73), f.Code)
	}
	made, err := e.Create(context.Background(), engine.Space{Database: "a", Collection: `b.c "d'; drop table collections`})
	require.NoError(t, err)
	assert.True(t, made)
	assert.Len(t, e.Collections("a"), 1)
}

// Many write at the same time, and each change is there once.
func TestWritersAtOnce(t *testing.T) {
	e := open(t, filepath.Join(t.TempDir(), "x.db"))
	insert(t, e, `{"_id": 0, "n": 0}`)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for j := range 20 {
				insert(t, e, fmt.Sprintf(`{"_id": %d}`, 1+i*100+j))
				_, err := change(e, updating(t, `{"_id": 0}`, `{"$inc": {"n": 1}}`))
				assert.NoError(t, err)
				ids(t, e, engine.Find{Sort: doctest.JSON(t, `{"_id": -1}`)}, 50)
			}
		})
	}
	all.Wait()
	assert.Equal(t, "0", ids(t, e, engine.Find{Filter: doctest.JSON(t, `{"n": 160}`)}, 9))
	assert.Len(t, strings.Fields(ids(t, e, engine.Find{}, 7)), 161)
}

// However it is paged, a sorted cursor gives what a sort of all gives.
func TestSortedPages(t *testing.T) {
	dir := t.TempDir()
	n := 0
	rapid.Check(t, func(r *rapid.T) {
		n++
		e, err := engine.Open(filepath.Join(dir, fmt.Sprint(n)))
		require.NoError(r, err)
		defer e.Close()
		count := rapid.IntRange(0, 12).Draw(r, "documents")
		type doc struct{ id, a, b int }
		var all []doc
		var raw []bson.Raw
		for i := range count {
			d := doc{i, rapid.IntRange(0, 3).Draw(r, "a"), rapid.IntRange(0, 3).Draw(r, "b")}
			all = append(all, d)
			b, err := bson.Marshal(bson.D{{Key: "_id", Value: d.id}, {Key: "a", Value: d.a}, {Key: "b", Value: d.b}})
			require.NoError(r, err)
			raw = append(raw, b)
		}
		_, _, err = add(e, raw...)
		require.NoError(r, err)
		down := rapid.Bool().Draw(r, "down")
		skip, limit, page := rapid.IntRange(0, 4).Draw(r, "skip"), rapid.IntRange(0, 5).Draw(r, "limit"), rapid.IntRange(1, 5).Draw(r, "page")
		sort.SliceStable(all, func(i, j int) bool {
			if all[i].a != all[j].a {
				return (all[i].a < all[j].a) != down
			}
			return all[i].b < all[j].b
		})
		all = all[min(skip, len(all)):]
		if limit > 0 {
			all = all[:min(limit, len(all))]
		}
		var want []string
		for _, d := range all {
			want = append(want, strconv.Itoa(d.id))
		}
		by := fmt.Sprintf(`{"a": %d, "b": 1}`, map[bool]int{true: -1, false: 1}[down])
		require.Equal(r, strings.Join(want, " "), ids(r, e, engine.Find{Sort: doctest.JSON(r, by), Skip: int64(skip), Limit: int64(limit)}, page))
	})
	assert.Equal(t, bson.TypeUndefined, query.Extreme(doctest.JSON(t, `{"a": []}`), []string{"a"}, false, nil).Type)
	assert.Equal(t, int32(9), query.Extreme(doctest.JSON(t, `{"a": [{"b": 3}, {"b": 9}]}`), []string{"a", "b"}, true, nil).Int32())
}
