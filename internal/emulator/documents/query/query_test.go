package query_test

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/doctest"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Each filter means those of the documents that are named by their _id.
func TestFilters(t *testing.T) {
	documents := map[string][]string{
		"tools": {
			`{"_id": 1, "name": "hammer drill", "price": 129.9, "tags": ["power", "wall"], "size": {"w": 30, "h": 20}, "lent": [{"to": "Ines", "days": 3}, {"to": "Tomas", "days": 9}]}`,
			`{"_id": 2, "name": "ladder", "price": 189, "tags": [], "size": {"h": 600, "w": 40}, "lent": []}`,
			`{"_id": 3, "name": "saw", "price": null, "tags": "wood", "lent": [{"to": "Ines", "days": 12}]}`,
			`{"_id": 4, "name": "Saw", "price": "free", "tags": [["power"], "old"], "lent": {"to": "Mara", "days": 1}}`,
			`{"_id": 5, "price": {"$numberDecimal": "189.0"}, "counts": [1, 5, 9], "since": {"$date": "2026-11-20T00:00:00Z"}}`,
			`{"_id": 6, "price": {"$numberDouble": "NaN"}, "counts": [[2], 3], "flag": true}`,
		},
		"nulls": { // what null means where there are arrays
			`{"_id": 1, "a": {}}`, `{"_id": 2, "a": null}`, `{"_id": 3, "a": 4}`, `{"_id": 4, "a": {"b": null}}`, `{"_id": 5}`,
			`{"_id": 6, "a": []}`, `{"_id": 7, "a": [[]]}`, `{"_id": 8, "a": [{"b": null}, {}]}`, `{"_id": 9, "a": [{"b": 1}, {"b": "x"}]}`, `{"_id": 10, "a": [{"b": 3}, {}]}`, `{"_id": 11, "a": [null, 1]}`, `{"_id": 12, "a": [1, "x"]}`,
		},
	}
	for _, c := range []struct{ in, filter, means string }{
		{"tools", `{}`, "1 2 3 4 5 6"},
		{"tools", `{"name": "saw"}`, "3"},
		{"tools", `{"price": 189}`, "2 5"},
		{"tools", `{"price": {"$gt": 129.9}}`, "2 5"},
		{"tools", `{"price": {"$gte": 129.9, "$lt": 189}}`, "1"},
		{"tools", `{"price": {"$lte": {"$numberDouble": "NaN"}}}`, "6"},
		{"tools", `{"price": {"$lt": {"$numberDouble": "NaN"}}}`, ""},
		{"tools", `{"price": {"$lt": {"$maxKey": 1}}}`, "1 2 3 4 5 6"},
		{"tools", `{"price": {"$gt": "a"}}`, "4"},
		{"tools", `{"price": null}`, "3"},
		{"tools", `{"name": null}`, "5 6"},
		{"tools", `{"price": {"$ne": null}}`, "1 2 4 5 6"},
		{"tools", `{"tags": "power"}`, "1"},
		{"tools", `{"tags": ["power"]}`, "4"},
		{"tools", `{"tags": ["power", "wall"]}`, "1"},
		{"tools", `{"tags": ["wall", "power"]}`, ""},
		{"tools", `{"tags": {"$size": 0}}`, "2"},
		{"tools", `{"tags": {"$size": 2}}`, "1 4"},
		{"tools", `{"tags": {"$all": ["wall", "power"]}}`, "1"},
		{"tools", `{"tags": {"$all": ["wood"]}}`, "3"},
		{"tools", `{"tags": {"$all": []}}`, ""},
		{"tools", `{"tags": {"$in": ["wood", "old", null]}}`, "3 4 5 6"},
		{"tools", `{"tags": {"$nin": ["wood", "old", null]}}`, "1 2"},
		{"tools", `{"tags": {"$ne": "power"}}`, "2 3 4 5 6"},
		{"tools", `{"tags.0": "power"}`, "1 4"},
		{"tools", `{"tags.0.0": "power"}`, "4"},
		{"tools", `{"tags.01": "wall"}`, ""},
		{"tools", `{"size": {"w": 30, "h": 20}}`, "1"},
		{"tools", `{"size": {"h": 20, "w": 30}}`, ""},
		{"tools", `{"size.h": {"$gte": 20}}`, "1 2"},
		{"tools", `{"lent.to": "Ines"}`, "1 3"},
		{"tools", `{"lent.to": "Mara"}`, "4"},
		{"tools", `{"lent.1.to": "Tomas"}`, "1"},
		{"tools", `{"lent.to": "Ines", "lent.days": 9}`, "1"},
		{"tools", `{"lent": {"$elemMatch": {"to": "Ines", "days": 9}}}`, ""},
		{"tools", `{"lent": {"$elemMatch": {"to": "Ines", "days": {"$gt": 2}}}}`, "1 3"},
		{"tools", `{"lent": {"$all": [{"$elemMatch": {"to": "Ines"}}, {"$elemMatch": {"days": 9}}]}}`, "1"},
		{"tools", `{"lent": {"$not": {"$elemMatch": {"to": "Ines"}}}}`, "2 4 5 6"},
		{"tools", `{"counts": {"$elemMatch": {"$gt": 1, "$lt": 5}}}`, "6"},
		{"tools", `{"counts": {"$gt": 4, "$lt": 2}}`, "5"},
		{"tools", `{"counts": {"$elemMatch": {"$elemMatch": {"$eq": 2}}}}`, "6"},
		{"tools", `{"counts": {"$elemMatch": {"$eq": 2}}}`, ""},
		{"tools", `{"counts": 2}`, ""},
		{"tools", `{"counts": {"$mod": [4, 1]}}`, "5"},
		{"tools", `{"price": {"$mod": [10, 9.7]}}`, "1 2 5"},
		{"tools", `{"counts": {"$exists": true}}`, "5 6"},
		{"tools", `{"lent.days": {"$exists": false}}`, "2 5 6"},
		{"tools", `{"price": {"$type": "number"}}`, "1 2 5 6"},
		{"tools", `{"price": {"$type": ["decimal", 10]}}`, "3 5"},
		{"tools", `{"tags": {"$type": "array"}}`, "1 2 4"},
		{"tools", `{"tags": {"$type": "string"}}`, "1 3 4"},
		{"tools", `{"name": {"$regex": "^s"}}`, "3"},
		{"tools", `{"name": {"$regex": "^S", "$options": "i"}}`, "3 4"},
		{"tools", `{"tags": {"$regularExpression": {"pattern": "w", "options": ""}}}`, "1 3"},
		{"tools", `{"name": {"$not": {"$regularExpression": {"pattern": "aw", "options": ""}}}}`, "1 2 5 6"},
		{"tools", `{"name": {"$in": ["ladder", {"$regularExpression": {"pattern": "drill$", "options": ""}}]}}`, "1 2"},
		{"tools", `{"$or": [{"name": "ladder"}, {"price": "free"}], "_id": {"$lt": 3}}`, "2"},
		{"tools", `{"$nor": [{"name": "ladder"}, {"price": "free"}]}`, "1 3 5 6"},
		{"tools", `{"$and": [{"_id": {"$gt": 1}}, {"_id": {"$lt": 4}}, {"$comment": "x", "name": {"$ne": "saw"}}]}`, "2"},
		{"tools", `{"price": {"$not": {"$gt": 150}}}`, "1 3 4 6"},
		{"tools", `{"since": {"$gt": {"$date": "2026-11-19T23:59:59.999Z"}}}`, "5"},
		{"tools", `{"flag": true}`, "6"},
		{"tools", `{"flag": 1}`, ""},
		{"nulls", `{"a.b": null}`, "1 2 3 4 5 8 10"},
		{"nulls", `{"a.b": {"$exists": false}}`, "1 2 3 5 6 7 11 12"},
		{"nulls", `{"a.b": {"$ne": null}}`, "6 7 9 11 12"},
		{"nulls", `{"a": null}`, "2 5 11"},
		{"nulls", `{"a": {"$gte": null}}`, "2 5 11"},
		{"nulls", `{"a": {"$gt": null}}`, ""},
		{"nulls", `{"a": []}`, "6 7"},
		{"nulls", `{"a.b": {"$in": [null, 1]}}`, "1 2 3 4 5 8 9 10"},
	} {
		f, err := query.Parse(doctest.JSON(t, c.filter))
		require.NoError(t, err, c.filter)
		var met []string
		for _, text := range documents[c.in] {
			d := doctest.JSON(t, text)
			if f.Matches(d) {
				id, _ := value.Integer(d.Lookup("_id"))
				met = append(met, strconv.Itoa(int(id)))
			}
		}
		assert.Equal(t, c.means, strings.Join(met, " "), c.filter)
	}
}

// What can't be meant, or isn't here, is named.
func TestRefusals(t *testing.T) {
	for filter, says := range map[string]string{
		`{"a": {"$near": [1, 2]}}`:                "238 $near is not here",
		`{"$where": "1"}`:                         "238 $where is not here",
		`{"a": {"$foo": 1}}`:                      "2 unknown operator: $foo",
		`{"a": {"$gt": 1, "b": 1}}`:               "2 unknown operator: b",
		`{"$foo": 1}`:                             "2 unknown top level operator: $foo",
		`{"$and": []}`:                            "2 $and must be a nonempty array",
		`{"$or": {}}`:                             "2 $or must be an array",
		`{"$or": [1]}`:                            "2 $or's entries need to be full objects",
		`{"a": {"$in": 1}}`:                       "2 $in needs an array",
		`{"a": {"$in": [{"$gt": 1}]}}`:            "2 cannot nest $ under $in",
		`{"a": {"$size": -1}}`:                    "2 Failed to parse $size. Expected a non-negative number",
		`{"a": {"$size": 1.5}}`:                   "2 Failed to parse $size. Expected an integer",
		`{"a": {"$all": 1}}`:                      "2 $all needs an array",
		`{"a": {"$elemMatch": 1}}`:                "2 $elemMatch needs an Object",
		`{"a": {"$mod": [0, 1]}}`:                 "2 divisor cannot be 0",
		`{"a": {"$mod": [1]}}`:                    "2 malformed mod, not enough elements",
		`{"a": {"$mod": ["x", 1]}}`:               "2 malformed mod",
		`{"a": {"$not": 1}}`:                      "2 $not needs a regex or a document",
		`{"a": {"$not": {}}}`:                     "2 $not cannot be empty",
		`{"a": {"$regex": 1}}`:                    "2 $regex has to be a string",
		`{"a": {"$regex": "("}}`:                  "51091 Regular expression is invalid",
		`{"a": {"$regex": "a(?=b)"}}`:             "51091 Regular expression is invalid, or has what is not here",
		`{"a": {"$regex": "a", "$options": "q"}}`: "51108 invalid flag in regex options: q",
		`{"a": {"$regex": "a", "$options": "x"}}`: "238 the option x",
		`{"a": {"$options": "i"}}`:                "2 $options needs a $regex",
		`{"a": {"$type": "nothing"}}`:             "2 Unknown type name alias: nothing",
		`{"a": {"$type": 99}}`:                    "2 Invalid numerical type code: 99",
		strings.Repeat(`{"$and":[`, 90) + `{}` + strings.Repeat(`]}`, 90):                "2 the filter is nested deeper than 80",
		`{"a":` + strings.Repeat(`{"$not":`, 90) + `{"$gt":1}` + strings.Repeat(`}`, 91): "2 the filter is nested deeper than 80",
	} {
		_, err := query.Parse(doctest.JSON(t, filter))
		var f *fault.Error
		require.ErrorAs(t, err, &f, filter)
		assert.Contains(t, fmt.Sprintf("%d %s", f.Code, f.Message), says, filter)
	}
	_, err := query.Parse(bson.Raw{9, 0, 0, 0, 16, 'a', 0, 1})
	var f *fault.Error
	assert.True(t, errors.As(err, &f))
}

// plain is a slow model of the operators' definitions, over decoded documents.
type plain struct{ t require.TestingT }

// at lists what a path leads to; nil stands for nothing, so that values are pointers.
func (p plain) at(v any, path []string) []*any {
	if len(path) == 0 {
		return []*any{&v}
	}
	switch v := v.(type) {
	case bson.D:
		for _, e := range v {
			if e.Key == path[0] {
				return p.at(e.Value, path[1:])
			}
		}
		return []*any{nil}
	case bson.A:
		var out []*any
		if n, err := strconv.Atoi(path[0]); err == nil && n < len(v) {
			out = append(out, p.at(v[n], path[1:])...)
		}
		for _, e := range v {
			if d, ok := e.(bson.D); ok {
				out = append(out, p.at(d, path)...)
			}
		}
		return out
	}
	return []*any{nil}
}

func (p plain) compare(a, b any) (order int, comparable bool) {
	raw := func(v any) bson.RawValue {
		if v == nil {
			return value.Null
		}
		kind, b, err := bson.MarshalValue(v)
		require.NoError(p.t, err)
		return bson.RawValue{Type: kind, Value: b}
	}
	x, y := raw(a), raw(b)
	return value.Compare(x, y), value.ClassOf(x.Type) == value.ClassOf(y.Type)
}

// holds is an operator for one value.
func (p plain) holds(operator string, v *any, to any) bool {
	if operator == "$exists" {
		return v != nil
	}
	if v == nil {
		return to == nil && (operator == "$eq" || operator == "$gte" || operator == "$lte")
	}
	d, comparable := p.compare(*v, to)
	switch operator {
	case "$eq":
		return d == 0
	case "$gt":
		return comparable && d > 0
	case "$gte":
		return comparable && d >= 0
	case "$lt":
		return comparable && d < 0
	}
	return comparable && d <= 0
}

func (p plain) meets(d any, path []string, operator string, to any) bool {
	switch operator {
	case "$ne":
		return !p.meets(d, path, "$eq", to)
	case "$nin":
		return !p.meets(d, path, "$in", to)
	case "$in":
		for _, one := range to.(bson.A) {
			if p.meets(d, path, "$eq", one) {
				return true
			}
		}
		return false
	case "$all":
		for _, one := range to.(bson.A) {
			if !p.meets(d, path, "$eq", one) {
				return false
			}
		}
		return len(to.(bson.A)) > 0
	}
	for _, v := range p.at(d, path) {
		if operator == "$size" {
			if list, ok := func() (bson.A, bool) {
				if v == nil {
					return nil, false
				}
				l, ok := (*v).(bson.A)
				return l, ok
			}(); ok && len(list) == to.(int) {
				return true
			}
			continue
		}
		if p.holds(operator, v, to) {
			return true
		}
		if v == nil {
			continue
		}
		if list, ok := (*v).(bson.A); ok {
			for _, e := range list {
				if p.holds(operator, &e, to) {
					return true
				}
			}
		}
	}
	return false
}

var scalars = rapid.OneOf(rapid.Just[any](nil), rapid.Just[any](int32(1)), rapid.Just[any](2.0), rapid.Just[any](int64(1)), rapid.Just[any]("x"), rapid.Just[any](true), rapid.Just[any](bson.DateTime(1)))

func anything(depth int) *rapid.Generator[any] {
	if depth == 0 {
		return scalars
	}
	return rapid.OneOf(scalars, rapid.Custom(func(t *rapid.T) any {
		return bson.A(rapid.SliceOfN(anything(depth-1), 0, 3).Draw(t, "array"))
	}), rapid.Custom(func(t *rapid.T) any { return members(depth-1).Draw(t, "document") }))
}

func members(depth int) *rapid.Generator[bson.D] {
	return rapid.Custom(func(t *rapid.T) bson.D {
		d := bson.D{}
		for _, name := range []string{"a", "b", "0"} {
			if rapid.Bool().Draw(t, name) {
				d = append(d, bson.E{Key: name, Value: anything(depth).Draw(t, "value")})
			}
		}
		return d
	})
}

// On any document, each operator means what its definition says.
func TestOperatorsByDefinition(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		d := members(3).Draw(r, "document")
		path := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "0", "1"}), 1, 3).Draw(r, "path")
		operator := rapid.SampledFrom([]string{"$eq", "$ne", "$gt", "$gte", "$lt", "$lte", "$in", "$nin", "$all", "$size", "$exists"}).Draw(r, "operator")
		var to any
		switch operator {
		case "$in", "$nin", "$all":
			to = bson.A(rapid.SliceOfN(anything(1), 0, 3).Draw(r, "operands"))
		case "$size":
			to = rapid.IntRange(0, 3).Draw(r, "size")
		case "$exists":
			to = true
		default:
			to = anything(2).Draw(r, "operand")
		}
		raw, err := bson.Marshal(bson.D{{Key: strings.Join(path, "."), Value: bson.D{{Key: operator, Value: to}}}})
		require.NoError(r, err)
		f, err := query.Parse(raw)
		require.NoError(r, err)
		document, err := bson.Marshal(d)
		require.NoError(r, err)
		require.Equal(r, plain{r}.meets(d, path, operator, to), f.Matches(document), "%v of %v", bson.Raw(raw), bson.Raw(document))
	})
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{`{"a": {"$gt": 1}}`, `{"$or": [{"a.0.b": null}, {"b": {"$elemMatch": {"c": {"$in": [1, "x"]}}}}]}`, `{"a": {"$regex": "^x", "$options": "i"}}`} {
		f.Add([]byte(doctest.JSON(f, text)))
	}
	d := doctest.JSON(f, `{"a": [1, {"b": "x"}], "b": null}`)
	f.Fuzz(func(t *testing.T, b []byte) {
		if parsed, err := query.Parse(b); err == nil {
			parsed.Matches(d)
		}
	})
}
