package projection_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/doctest"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/value"
)

func TestProjections(t *testing.T) {
	const whole = `{"_id":1,"name":"drill","size":{"w":1,"h":2},"lent":[{"to":"Ines","days":3},7,[{"to":"Mara"}],{"days":9}]}`
	for text, stays := range map[string]string{
		`{}`:                                                whole,
		`{"name": 1}`:                                       `{"_id":1,"name":"drill"}`,
		`{"name": true, "_id": 0}`:                          `{"name":"drill"}`,
		`{"_id": 1}`:                                        `{"_id":1}`,
		`{"_id": 0}`:                                        `{"name":"drill","size":{"w":1,"h":2},"lent":[{"to":"Ines","days":3},7,[{"to":"Mara"}],{"days":9}]}`,
		`{"lent": 0, "size.w": false}`:                      `{"_id":1,"name":"drill","size":{"h":2}}`,
		`{"size.h": 1, "none": 1}`:                          `{"_id":1,"size":{"h":2}}`,
		`{"size.x": 1, "name.x": 1}`:                        `{"_id":1,"size":{}}`,
		`{"lent.to": 1}`:                                    `{"_id":1,"lent":[{"to":"Ines"},[{"to":"Mara"}],{}]}`,
		`{"lent.to": 0, "name": 0, "size":0}`:               `{"_id":1,"lent":[{"days":3},7,[{}],{"days":9}]}`,
		`{"size.w": 1.5, "size.h": 1}`:                      `{"_id":1,"size":{"w":1,"h":2}}`,
		`{"lent": {"$slice": -1}, "size": 0}`:               `{"_id":1,"name":"drill","lent":[{"days":9}]}`,
		`{"name": 1, "lent": {"$slice": [1, 1]}}`:           `{"_id":1,"name":"drill","lent":[7]}`,
		`{"lent": {"$elemMatch": {"days": {"$gt": 3}}}}`:    `{"_id":1,"lent":[{"days":9}]}`,
		`{"lent": {"$elemMatch": {"days": 99}}, "name": 1}`: `{"_id":1,"name":"drill"}`,
		`{"_id": "$name", "area": {"$multiply": ["$size.w", "$size.h"]}, "size": {"h": 1}}`: `{"_id":"drill","size":{"h":2},"area":2}`,
		`{"name": "$none", "size": {"w": {"$add": ["$size.w", 1]}}, "to": "$lent.to"}`:      `{"_id":1,"size":{"w":2},"to":["Ines"]}`,
		`{"name": 0, "_id": 1}`: `{"_id":1,"size":{"w":1,"h":2},"lent":[{"to":"Ines","days":3},7,[{"to":"Mara"}],{"days":9}]}`,
	} {
		p, err := projection.Parse(doctest.JSON(t, text), projection.Options{})
		require.NoError(t, err, text)
		out, err := p.Apply(doctest.JSON(t, whole), nil)
		require.NoError(t, err, text)
		require.NoError(t, value.Validate(out), text)
		b, err := bson.MarshalExtJSON(out, false, false)
		require.NoError(t, err)
		assert.Equal(t, stays, string(b), text)
	}
	for text, says := range map[string]string{
		`{"a": 1, "b": 0}`:          "31254 Cannot do exclusion on field b in inclusion projection",
		`{"a": 0, "b": 1}`:          "31253 Cannot do inclusion on field b in exclusion projection",
		`{"a": 1, "a.b": 1}`:        "31250 Path collision at a.b",
		`{"a.b": 1, "a": 1}`:        "31250 Path collision at a",
		`{"a": {"$slice": [1, 0]}}`: "28724 ",
		`{"a": {"$slice": [1]}}`:    "16020 Expression $slice takes",
		`{"a": {"$foo": 1}}`:        "168 Unrecognized expression '$foo'",
		`{"a.$": 1}`:                "2 the positional operator needs a find",
		`{"a": {"$elemMatch": 1}}`:  "2 $elemMatch needs an Object",
		`{"a": 0, "b": "$c"}`:       "31253 Cannot do inclusion on field b",
	} {
		_, err := projection.Parse(doctest.JSON(t, text), projection.Options{})
		var f *fault.Error
		require.ErrorAs(t, err, &f, text)
		assert.Contains(t, fmt.Sprintf("%d %s", f.Code, f.Message), says)
	}
}
