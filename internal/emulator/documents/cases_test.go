package documents_test

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/update"
)

var rewrite = flag.Bool("update", false, "write docs/DOCUMENTS.md anew")

// section is a part of the cases.
type section struct {
	title string
	cases [][]string // an operator, and three parts
}

func readCases(t *testing.T) (all []section) {
	b, err := os.ReadFile("testdata/cases.txt")
	require.NoError(t, err)
	for line := range strings.Lines(string(b)) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "## "):
			all = append(all, section{title: line[3:]})
		case line != "" && !strings.HasPrefix(line, "#"):
			parts := strings.Split(line, " | ")
			require.Len(t, parts, 4, line)
			all[len(all)-1].cases = append(all[len(all)-1].cases, parts)
		}
	}
	return all
}

// parsed reads extended JSON of any sort of value.
func parsed(t *testing.T, text string) any {
	var d struct{ V any }
	require.NoError(t, bson.UnmarshalExtJSON([]byte(`{"V": `+text+`}`), false, &d), text)
	return d.V
}

func printed(t *testing.T, v any) string {
	b, err := bson.MarshalExtJSON(bson.D{{Key: "v", Value: v}}, false, false)
	require.NoError(t, err)
	return string(b)
}

// Each operator does what its definition says, through the server and a real client.
func TestCases(t *testing.T) {
	ctx := context.Background()
	client := connect(t, serve(t, filepath.Join(t.TempDir(), "x.db")))
	cases := client.Database("shed").Collection("cases")
	_, err := cases.Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "text", Value: "text"}}})
	require.NoError(t, err)
	fill := func(list ...any) {
		_, err := cases.DeleteMany(ctx, bson.D{})
		require.NoError(t, err)
		if len(list) > 0 {
			_, err = cases.InsertMany(ctx, list)
			require.NoError(t, err)
		}
	}
	plain := func(list []bson.D) bson.A { // without the _ids that the client made up
		out := bson.A{}
		for _, d := range list {
			out = append(out, slices.DeleteFunc(d, func(e bson.E) bool { _, made := e.Value.(bson.ObjectID); return e.Key == "_id" && made }))
		}
		return out
	}
	found := func(filter any) bson.A {
		cursor, err := cases.Find(ctx, filter)
		require.NoError(t, err)
		var list []bson.D
		require.NoError(t, cursor.All(ctx, &list))
		return plain(list)
	}
	aggregated := func(stages any) bson.A {
		cursor, err := cases.Aggregate(ctx, stages)
		require.NoError(t, err)
		var list []bson.D
		require.NoError(t, cursor.All(ctx, &list))
		return plain(list)
	}
	tried := map[string][]string{}
	all := readCases(t)
	for _, s := range all {
		kind, _, _ := strings.Cut(s.title, ":")
		for _, c := range s.cases {
			name := kind + " " + c[0] + " " + c[1]
			tried[kind] = append(tried[kind], c[0])
			switch kind {
			case "Filters":
				fill(parsed(t, c[2]), parsed(t, c[3]))
				assert.Equal(t, printed(t, bson.A{parsed(t, c[2])}), printed(t, found(parsed(t, c[1]))), name)
			case "Updates":
				fill(parsed(t, c[2]))
				filter := bson.D{}
				if c[0] == "$" {
					filter = bson.D{{Key: "a", Value: 5}}
				}
				_, err := cases.UpdateOne(ctx, filter, parsed(t, c[1]))
				require.NoError(t, err, name)
				got := found(bson.D{})[0].(bson.D)
				for i, e := range got {
					if _, is := e.Value.(bson.DateTime); is {
						got[i].Value = "now"
					}
				}
				assert.Equal(t, printed(t, parsed(t, c[3])), printed(t, got), name)
			case "Expressions":
				fill(parsed(t, c[2]))
				got := aggregated(bson.A{bson.D{{Key: "$project", Value: bson.D{{Key: "_id", Value: 0}, {Key: "v", Value: parsed(t, c[1])}}}}})
				assert.Equal(t, printed(t, bson.A{bson.D{{Key: "v", Value: parsed(t, c[3])}}}), printed(t, got), name)
			default:
				fill(parsed(t, c[2]).(bson.A)...)
				got := aggregated(parsed(t, c[1]))
				if strings.Contains(c[1], "$out") || strings.Contains(c[1], "$merge\"") {
					assert.Empty(t, got, name)
					got = found(bson.D{})
				}
				assert.Equal(t, printed(t, parsed(t, c[3])), printed(t, got), name)
			}
		}
	}
	for kind, names := range map[string][]string{"Updates": update.Names(), "Expressions": expression.Names(), "Stages": pipeline.Names(), "Accumulators": expression.Accumulators} {
		for _, name := range names {
			if name != "$changeStream" {
				assert.Contains(t, tried[kind], name, "a case of "+kind)
			}
		}
	}
	describe(t, all)
}

// describe makes the document of what is there.
func describe(t *testing.T, all []section) {
	const file = "../../../docs/DOCUMENTS.md"
	before, err := os.ReadFile("testdata/head.md")
	require.NoError(t, err)
	out := string(before)
	for _, s := range all {
		kind, parts, _ := strings.Cut(s.title, ": ")
		heads := strings.Split(parts, " | ")
		out += fmt.Sprintf("\n## %s\n\n| | %s | %s | %s |\n|---|---|---|---|\n", kind, heads[0], heads[1], heads[2])
		for _, c := range s.cases {
			out += fmt.Sprintf("| `%s` | `%s` | `%s` | `%s` |\n", c[0], c[1], c[2], c[3])
		}
	}
	out += "\n## Stages that aren't there\n\n`" + strings.Join(pipeline.Absent(), "` `") + "`\n"
	if *rewrite {
		require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
		return
	}
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, string(is) == out, "docs/DOCUMENTS.md is not what the cases say: go test ./internal/emulator/documents -run TestCases -update")
}
