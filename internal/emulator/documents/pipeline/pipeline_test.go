package pipeline_test

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/value"
)

// loan is a document of the tests.
type loan struct {
	ID   int32   `bson:"_id"`
	Tool string  `bson:"tool"`
	Days int32   `bson:"days"`
	Tags []int32 `bson:"tags"`
}

func loans() *rapid.Generator[[]loan] {
	return rapid.Custom(func(t *rapid.T) []loan {
		var out []loan
		for i := range rapid.IntRange(0, 12).Draw(t, "loans") {
			out = append(out, loan{int32(i), rapid.SampledFrom([]string{"drill", "saw", "ladder"}).Draw(t, "tool"), int32(rapid.IntRange(-3, 9).Draw(t, "days")),
				rapid.SliceOfN(rapid.Int32Range(0, 3), 0, 3).Draw(t, "tags")})
		}
		return out
	})
}

func raw(t require.TestingT, v any) bson.Raw {
	b, err := bson.Marshal(v)
	require.NoError(t, err)
	return b
}

func rawAll(t require.TestingT, all []loan) (out []bson.Raw) {
	for _, l := range all {
		out = append(out, raw(t, l))
	}
	return out
}

// stages makes a pipeline of some stages.
func stages(t require.TestingT, all ...bson.D) []bson.Raw {
	var out []bson.Raw
	for _, s := range all {
		out = append(out, raw(t, s))
	}
	return out
}

func collect(t require.TestingT, next pipeline.Next) []bson.Raw {
	var out []bson.Raw
	for {
		d, err := next(context.Background())
		require.NoError(t, err)
		if d == nil {
			return out
		}
		out = append(out, d)
	}
}

// run runs stages on documents, without an engine.
func run(t require.TestingT, all []bson.Raw, s []bson.Raw) []bson.Raw {
	p, err := pipeline.Parse(s, pipeline.Options{})
	require.NoError(t, err)
	next, err := p.Whole(pipeline.From(all), nil)
	require.NoError(t, err)
	return collect(t, next)
}

func texts(all []bson.Raw) (out []string) {
	for _, d := range all {
		out = append(out, d.String())
	}
	return out
}

// What a pipeline leaves to the engine, with its indexes, comes out as if it had done it
// itself.
func TestWhatTheEngineDoes(t *testing.T) {
	dir := t.TempDir()
	n := 0
	rapid.Check(t, func(r *rapid.T) {
		n++
		e, err := engine.Open(filepath.Join(dir, fmt.Sprint(n)))
		require.NoError(r, err)
		defer e.Close()
		space := engine.Space{Database: "shed", Collection: "loans"}
		all := rawAll(r, loans().Draw(r, "all"))
		_, err = e.Write(context.Background(), engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
			for _, d := range all {
				if err := w.Insert(context.Background(), space, d); err != nil {
					return nil, err
				}
			}
			return bson.D{}, nil
		})
		require.NoError(r, err)
		if rapid.Bool().Draw(r, "index") {
			_, _, _, err = e.Index(context.Background(), space, stages(r, bson.D{{Key: "key", Value: bson.D{{Key: "tool", Value: 1}, {Key: "days", Value: -1}}}}))
			require.NoError(r, err)
		}
		possible := []bson.D{
			{{Key: "$match", Value: bson.D{{Key: "days", Value: bson.D{{Key: "$gt", Value: 0}}}}}}, {{Key: "$match", Value: bson.D{{Key: "tool", Value: "drill"}}}},
			{{Key: "$sort", Value: bson.D{{Key: "days", Value: -1}, {Key: "_id", Value: 1}}}}, {{Key: "$sort", Value: bson.D{{Key: "_id", Value: -1}}}},
			{{Key: "$skip", Value: 2}}, {{Key: "$limit", Value: 3}}, {{Key: "$limit", Value: 1}}, {{Key: "$set", Value: bson.D{{Key: "days", Value: bson.D{{Key: "$abs", Value: "$days"}}}}}}, {{Key: "$unwind", Value: "$tags"}},
		}
		s := stages(r, rapid.SliceOfN(rapid.SampledFrom(possible), 0, 5).Draw(r, "stages")...)
		// So that the order is the same where no stage says one.
		s = append(stages(r, bson.D{{Key: "$sort", Value: bson.D{{Key: "_id", Value: 1}}}}), s...)
		if rapid.Bool().Draw(r, "first") {
			s = append(stages(r, possible[rapid.IntRange(0, 1).Draw(r, "match")]), s...)
		}
		p, err := pipeline.Parse(s, pipeline.Options{})
		require.NoError(r, err)
		c, err := e.Open(context.Background(), space, engine.Find{Filter: p.Filter, Sort: p.Sort, Skip: p.Skip, Limit: p.Limit})
		require.NoError(r, err)
		var found []bson.Raw
		for more := true; more; {
			var some []bson.Raw
			some, more, err = c.Next(context.Background(), 4, 1<<20)
			require.NoError(r, err)
			found = append(found, some...)
		}
		require.Equal(r, texts(run(r, all, s)), texts(collect(r, p.Run(pipeline.From(found), nil, nil))), "%s", s)
	})
}

// Groups are what their definition says: of each key the sum, the average, the extremes,
// the first and the last, all, and each once.
func TestGroupsByDefinition(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		all := loans().Draw(r, "all")
		of := func(name string) bson.D { return bson.D{{Key: name, Value: "$days"}} }
		out := run(r, rawAll(r, all), stages(r, bson.D{{Key: "$group", Value: bson.D{{Key: "_id", Value: "$tool"}, {Key: "sum", Value: of("$sum")}, {Key: "avg", Value: of("$avg")}, {Key: "min", Value: of("$min")},
			{Key: "max", Value: of("$max")}, {Key: "first", Value: of("$first")}, {Key: "last", Value: of("$last")}, {Key: "all", Value: of("$push")}, {Key: "once", Value: of("$addToSet")}, {Key: "n", Value: bson.D{{Key: "$count", Value: bson.D{}}}}}}}))
		byTool := map[string][]int32{}
		for _, l := range all {
			byTool[l.Tool] = append(byTool[l.Tool], l.Days)
		}
		require.Len(r, out, len(byTool))
		for _, d := range out {
			var g struct {
				ID               string `bson:"_id"`
				Sum, Min, Max, N int32
				First, Last      int32
				Avg              float64
				All, Once        []int32
			}
			require.NoError(r, bson.Unmarshal(d, &g))
			days := byTool[g.ID]
			sum := int32(0)
			for _, n := range days {
				sum += n
			}
			require.Equal(r, days, g.All)
			once := slices.Clone(days)
			slices.Sort(once)
			slices.Sort(g.Once)
			require.Equal(r, slices.Compact(once), g.Once)
			require.Equal(r, []int32{sum, once[0], slices.Max(days), int32(len(days)), days[0], days[len(days)-1]}, []int32{g.Sum, g.Min, g.Max, g.N, g.First, g.Last})
			require.InDelta(r, float64(sum)/float64(len(days)), g.Avg, 1e-12)
		}
	})
}

// Unwound and grouped again, documents are what they were.
func TestUnwindAndBack(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		all := rawAll(r, loans().Draw(r, "all"))
		back := run(r, all, stages(r, bson.D{{Key: "$unwind", Value: bson.D{{Key: "path", Value: "$tags"}, {Key: "preserveNullAndEmptyArrays", Value: true}}}},
			bson.D{{Key: "$group", Value: bson.D{{Key: "_id", Value: "$_id"}, {Key: "tool", Value: bson.D{{Key: "$first", Value: "$tool"}}}, {Key: "days", Value: bson.D{{Key: "$first", Value: "$days"}}}, {Key: "tags", Value: bson.D{{Key: "$push", Value: "$tags"}}}}}}))
		require.Equal(r, texts(all), texts(back))
	})
}

// What a pipeline holds, and how deep it goes, is bounded; what can't be meant is refused
// in the protocol's words.
func TestBounds(t *testing.T) {
	big := value.Document(value.Named{Name: "x", Value: value.Of(string(make([]byte, 1<<20)))})
	many := make([]bson.Raw, 200)
	for i := range many {
		many[i] = big
	}
	for _, stage := range []bson.D{{{Key: "$sort", Value: bson.D{{Key: "x", Value: 1}, {Key: "y", Value: 1}}}}, {{Key: "$group", Value: bson.D{{Key: "_id", Value: nil}, {Key: "all", Value: bson.D{{Key: "$push", Value: "$x"}}}}}}, {{Key: "$facet", Value: bson.D{{Key: "a", Value: bson.A{}}}}}} {
		s := append(stages(t, bson.D{{Key: "$set", Value: bson.D{{Key: "y", Value: 1}}}}), stages(t, stage)...)
		p, err := pipeline.Parse(s, pipeline.Options{})
		require.NoError(t, err)
		next, err := p.Whole(pipeline.From(many), nil)
		require.NoError(t, err)
		_, err = next(t.Context())
		var f *fault.Error
		require.ErrorAs(t, err, &f)
		assert.Equal(t, int32(292), f.Code)
	}
	for text, code := range map[string]int32{
		`{"$foo": 1}`: 40324, `{"$match": 1}`: 15959, `{"$match": {}, "$sort": {}}`: 40323, `{"$sort": {}}`: 15976, `{"$limit": 0}`: 15957, `{"$group": {}}`: 15955, `{"$group": {"_id": 1, "a": 1}}`: 40234,
		`{"$group": {"_id": 1, "a": {"$foo": 1}}}`: 15952, `{"$unwind": "a"}`: 28818, `{"$count": ""}`: 40156, `{"$graphLookup": {}}`: 238, `{"$project": {}}`: 51272, `{"$facet": {"a": [{"$out": "x"}]}}`: 40601,
		`{"$lookup": {"from": "x", "as": "y"}}`: 9, `{"$bucket": {"groupBy": "$a", "boundaries": [2, 1]}}`: 40198, `{"$set": {"$a": 1}}`: 16410, `{"$sample": {"size": 0}}`: 15957, `{"$merge": {"into": "x", "whenMatched": []}}`: 238,
	} {
		var d bson.D
		require.NoError(t, bson.UnmarshalExtJSON([]byte(text), false, &d))
		_, err := pipeline.Parse(stages(t, d), pipeline.Options{})
		var f *fault.Error
		if assert.ErrorAs(t, err, &f, text) {
			assert.Equal(t, code, f.Code, "%s: %v", text, err)
		}
	}
}

// FuzzPipeline reads and runs pipelines of any documents.
func FuzzPipeline(f *testing.F) {
	for _, text := range []string{`{"$set": {"a": {"$add": ["$b", 1]}}}`, `{"$group": {"_id": "$a", "n": {"$sum": 1}}}`, `{"$project": {"a": {"$map": {"input": "$b", "in": "$$this"}}, "b.c": 1}}`, `{"$unwind": {"path": "$b"}}`,
		`{"$match": {"$expr": {"$gt": ["$a", {"$literal": 2}]}}}`, `{"$bucket": {"groupBy": "$a", "boundaries": [1, 2], "default": 0}}`, `{"$facet": {"x": [{"$count": "n"}]}}`, `{"$replaceRoot": {"newRoot": {"d": {"$dateToString": {"date": "$d", "format": "%Y%"}}}}}`} {
		var d bson.D
		if err := bson.UnmarshalExtJSON([]byte(text), false, &d); err != nil {
			f.Fatal(err)
		}
		b, err := bson.Marshal(d)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	on, err := bson.Marshal(bson.D{{Key: "_id", Value: 1}, {Key: "a", Value: 1.5}, {Key: "b", Value: bson.A{int32(1), "x", bson.D{{Key: "c", Value: nil}}}}, {Key: "d", Value: bson.DateTime(5)}})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, stage []byte) {
		if value.Validate(stage) != nil {
			return
		}
		p, err := pipeline.Parse([]bson.Raw{stage, stage}, pipeline.Options{})
		if err != nil || p.Out != nil || p.Watch.Type != 0 {
			return
		}
		next, err := p.Whole(pipeline.From([]bson.Raw{on, on}), nothing{})
		if err != nil {
			return
		}
		for range 1000 {
			d, err := next(t.Context())
			if err != nil || d == nil {
				return
			}
			if err := value.Validate(d); err != nil {
				t.Fatalf("%s made %s: %v", bson.Raw(stage), d, err)
			}
		}
	})
}

// nothing has no other collections.
type nothing struct{}

func (nothing) Find(context.Context, string, bson.Raw) (pipeline.Next, error) {
	return pipeline.From(nil), nil
}
