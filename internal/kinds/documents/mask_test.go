package documents

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"go.mongodb.org/mongo-driver/v2/bson"
	"strings"
)

// A field is taken out wherever its path leads, and nothing else is.
func TestWithout(t *testing.T) {
	d := func(key string, v any) bson.D { return bson.D{{Key: key, Value: v}} }
	for path, c := range map[string]struct {
		from, want any
		gone       []any
	}{
		"a":     {bson.D{{Key: "a", Value: "x"}, {Key: "b", Value: 1}}, d("b", 1), []any{"x"}},
		"a.b":   {d("a", bson.D{{Key: "b", Value: "x"}, {Key: "c", Value: 1}}), d("a", d("c", 1)), []any{"x"}},
		"a.b.c": {d("a", bson.A{d("b", d("c", "x")), d("b", bson.A{d("c", "y"), 3}), "z"}), d("a", bson.A{d("b", bson.D{}), d("b", bson.A{bson.D{}, 3}), "z"}), []any{"x", "y"}},
		"a.1":   {d("a", bson.A{"x", "y", d("1", "z")}), d("a", bson.A{"x", nil, bson.D{}}), []any{"y", "z"}},
		"a.1.b": {d("a", bson.A{d("b", "x"), d("b", bson.A{"y", d("c", "z")})}), d("a", bson.A{d("b", "x"), bson.D{}}), []any{"y", "z"}},
		"b":     {d("a", bson.A{d("b", "x")}), d("a", bson.A{d("b", "x")}), nil},
	} {
		var gone []any
		got, had := without(c.from, strings.Split(path, "."), func(v any) { gone = append(gone, v) })
		assert.Equal(t, c.want, got, path)
		assert.Equal(t, c.gone, gone, path)
		assert.Equal(t, c.gone != nil, had, path)
	}
}
