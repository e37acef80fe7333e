package update_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"pgregory.net/rapid"

	"neighbour/internal/emulator/documents/doctest"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/update"
	"neighbour/internal/emulator/documents/value"
)

func apply(t require.TestingT, text, on string, insert bool, filters ...string) (string, error) {
	var raw []bson.Raw
	for _, f := range filters {
		raw = append(raw, doctest.JSON(t, f))
	}
	u, err := update.Parse(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: doctest.JSON(t, text)}, raw)
	if err != nil {
		return "", err
	}
	out, err := u.Apply(doctest.JSON(t, on), update.About{Insert: insert})
	if err != nil {
		return "", err
	}
	b, err := bson.MarshalExtJSON(out, false, false)
	return string(b), err
}

func TestOperators(t *testing.T) {
	for _, c := range []struct{ update, on, makes string }{
		{`{"$set": {"a": 1}}`, `{"_id": 1}`, `{"_id":1,"a":1}`},
		{`{"$set": {}}`, `{"_id": 1}`, `{"_id":1}`},
		{`{"$set": {"z": 1, "b": 2, "a.c": 3}}`, `{"b": 0}`, `{"b":2,"a":{"c":3},"z":1}`},
		{`{"$set": {"a.10": 1, "a.9": 2}}`, `{}`, `{"a":{"9":2,"10":1}}`},
		{`{"$set": {"a.2": "x"}}`, `{"a": [0]}`, `{"a":[0,null,"x"]}`},
		{`{"$set": {"a.0.b": 1}}`, `{"a": [{"c": 2}]}`, `{"a":[{"c":2,"b":1}]}`},
		{`{"$set": {"a.1.b": 1}}`, `{"a": [0]}`, `{"a":[0,{"b":1}]}`},
		{`{"$set": {"_id": 1, "a": 2}}`, `{"_id": 1.0}`, `{"_id":1,"a":2}`},
		{`{"$unset": {"a": "", "b.c": 1, "nothing.at.all": 1}}`, `{"a": 1, "b": {"c": 1, "d": 2}}`, `{"b":{"d":2}}`},
		{`{"$unset": {"a.0": 1, "b.x": 1}}`, `{"a": [1, 2], "b": 5}`, `{"a":[null,2],"b":5}`},
		{`{"$inc": {"a": 2, "b": -1, "c.d": 1.5}}`, `{"a": 1}`, `{"a":3,"b":-1,"c":{"d":1.5}}`},
		{`{"$inc": {"a": 1}}`, `{"a": 2147483647}`, `{"a":2147483648}`},
		{`{"$inc": {"a": 0.5}}`, `{"a": 1}`, `{"a":1.5}`},
		{`{"$inc": {"a": {"$numberDecimal": "0.1"}}}`, `{"a": {"$numberDecimal": "0.2"}}`, `{"a":{"$numberDecimal":"0.3"}}`},
		{`{"$inc": {"a": {"$numberDecimal": "1E-33"}}}`, `{"a": {"$numberDecimal": "9.999999999999999999999999999999999"}}`, `{"a":{"$numberDecimal":"10.00000000000000000000000000000000"}}`},
		{`{"$mul": {"a": 3, "b": 5, "c": 2.0}}`, `{"a": 7}`, `{"a":21,"b":0,"c":0.0}`},
		{`{"$mul": {"a": {"$numberDecimal": "1.5"}}}`, `{"a": 2}`, `{"a":{"$numberDecimal":"3.0"}}`},
		{`{"$min": {"a": 3, "b": 3, "c": 3}}`, `{"a": 5, "b": 1}`, `{"a":3,"b":1,"c":3}`},
		{`{"$max": {"a": 3, "b": "x"}}`, `{"a": 5, "b": 9}`, `{"a":5,"b":"x"}`},
		{`{"$rename": {"a": "b.c", "no": "where"}}`, `{"a": 1, "b": {"d": 2}}`, `{"b":{"d":2,"c":1}}`},
		{`{"$rename": {"a": "b"}}`, `{"a": 1, "b": 2}`, `{"b":1}`},
		{`{"$push": {"a": 1, "b": [2], "c": {"x": 1}}}`, `{"a": [0], "b": []}`, `{"a":[0,1],"b":[[2]],"c":[{"x":1}]}`},
		{`{"$push": {"a": {"$each": [9, 3], "$position": 1}}}`, `{"a": [1, 2]}`, `{"a":[1,9,3,2]}`},
		{`{"$push": {"a": {"$each": [9], "$position": -1}}}`, `{"a": [1, 2]}`, `{"a":[1,9,2]}`},
		{`{"$push": {"a": {"$each": [5, 1], "$sort": -1, "$slice": 3}}}`, `{"a": [3, 9]}`, `{"a":[9,5,3]}`},
		{`{"$push": {"a": {"$each": [{"n": 1}], "$sort": {"n": 1}, "$slice": -2}}}`, `{"a": [{"n": 5}, {"n": 3}]}`, `{"a":[{"n":3},{"n":5}]}`},
		{`{"$push": {"a": {"$each": [], "$slice": 0}}}`, `{"a": [1]}`, `{"a":[]}`},
		{`{"$addToSet": {"a": 1, "b": {"$each": [2, 3, 3.0, {"x": 1}]}}}`, `{"a": [1.0], "b": [{"x": 1}]}`, `{"a":[1.0],"b":[{"x":1},2,3]}`},
		{`{"$pop": {"a": 1, "b": -1, "c": 1, "no": 1}}`, `{"a": [1, 2], "b": [1, 2], "c": []}`, `{"a":[1],"b":[2],"c":[]}`},
		{`{"$pull": {"a": 1, "b": {"$gt": 2}, "c": {"x": 1}, "no": 1}}`, `{"a": [1, 1.0, 2, [1]], "b": [1, 3, 5], "c": [{"x": 1, "y": 2}, {"x": 2}, 7]}`, `{"a":[2,[1]],"b":[1],"c":[{"x":2},7]}`},
		{`{"$pull": {"a": {"$in": ["x", "y"]}, "b": {"$regularExpression": {"pattern": "^o", "options": ""}}}}`, `{"a": ["x", "z"], "b": ["one", "two"]}`, `{"a":["z"],"b":["two"]}`},
		{`{"$pullAll": {"a": [1, {"x": 1}]}}`, `{"a": [1, 2, {"x": 1}, {"x": 1, "y": 1}]}`, `{"a":[2,{"x":1,"y":1}]}`},
		{`{"$setOnInsert": {"a": 1}, "$set": {"b": 2}}`, `{}`, `{"b":2}`},
		{`{"a": 2, "b": 3}`, `{"_id": 7, "c": 1}`, `{"_id":7,"a":2,"b":3}`},
		{`{"_id": 7.0, "a": 2}`, `{"_id": 7}`, `{"_id":7,"a":2}`},
		{`{}`, `{"_id": 7, "c": 1}`, `{"_id":7}`},
		{`{"$set": {"a.$[].n": 0}}`, `{"a": [{"n": 1}, {"m": 2}]}`, `{"a":[{"n":0},{"m":2,"n":0}]}`},
		{`{"$inc": {"a.$[].$[]": 1}}`, `{"a": [[1, 2], [3]]}`, `{"a":[[2,3],[4]]}`},
	} {
		got, err := apply(t, c.update, c.on, false)
		require.NoError(t, err, c.update)
		assert.Equal(t, c.makes, got, "%s on %s", c.update, c.on)
	}
	got, err := apply(t, `{"$set": {"a.$[late].fine": 5}}`, `{"a": [{"days": 9}, {"days": 1}, {"days": 30}]}`, false, `{"late.days": {"$gt": 7}}`)
	require.NoError(t, err)
	assert.Equal(t, `{"a":[{"days":9,"fine":5},{"days":1},{"days":30,"fine":5}]}`, got)
	got, err = apply(t, `{"$setOnInsert": {"a": 1}, "$set": {"b": 2}}`, `{}`, true)
	require.NoError(t, err)
	assert.Equal(t, `{"a":1,"b":2}`, got)

	u, err := update.Parse(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: doctest.JSON(t, `{"$currentDate": {"a": true, "b": {"$type": "timestamp"}}}`)}, nil)
	require.NoError(t, err)
	out, err := u.Apply(doctest.JSON(t, `{}`), update.About{})
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), out.Lookup("a").Time(), time.Minute)
	assert.Equal(t, bson.TypeTimestamp, out.Lookup("b").Type)
}

// What can't be done is refused with the protocol's code, and nothing is changed.
func TestRefusals(t *testing.T) {
	for _, c := range []struct{ update, on, says string }{
		{`{"$foo": {"a": 1}}`, `{}`, "9 Unknown modifier: $foo"},
		{`{"$bit": {"a": {"not": 1}}}`, `{}`, "2 The $bit modifier takes and, or, and xor"},
		{`{"$set": {"a.$": 1}}`, `{}`, "2 The positional operator did not find"},
		{`{"$set": 1}`, `{}`, "9 Modifiers operate on fields but we found type int"},
		{`{"a": 1, "$set": {"b": 1}}`, `{}`, "52 The dollar ($) prefixed field '$set'"},
		{`{"$set": {"a": 1}, "$inc": {"a": 1}}`, `{}`, "40 Updating the path 'a' would create a conflict at 'a'"},
		{`{"$set": {"a": 1, "a.b": 1}}`, `{}`, "40 Updating the path 'a.b' would create a conflict at 'a'"},
		{`{"$rename": {"a": "b"}, "$set": {"b": 1}}`, `{}`, "40 "},
		{`{"$set": {"_id": 2}}`, `{"_id": 1}`, "66 "},
		{`{"$unset": {"_id": 1}}`, `{"_id": 1}`, "66 "},
		{`{"_id": 2}`, `{"_id": 1}`, "66 "},
		{`{"$set": {"a.b": 1}}`, `{"a": 1}`, "28 Cannot create field 'b' in element {a: "},
		{`{"$set": {"a.b": 1}}`, `{"a": []}`, "28 Cannot create field 'b'"},
		{`{"$set": {"a.99999999": 1}}`, `{"a": []}`, "2 an array of 99999999 elements"},
		{`{"$set": {"a..b": 1}}`, `{}`, "56 "},
		{`{"$inc": {"a": "x"}}`, `{}`, "14 Cannot increment with non-numeric argument"},
		{`{"$inc": {"a": 1}}`, `{"a": "x"}`, "14 Cannot apply $inc to a value of non-numeric type"},
		{`{"$inc": {"a": 1}}`, `{"a": {"$numberLong": "9223372036854775807"}}`, "2 Failed to apply $inc"},
		{`{"$push": {"a": 1}}`, `{"a": 1}`, "2 The field 'a' must be an array but is of type int"},
		{`{"$push": {"a": {"$each": 1}}}`, `{}`, "2 The argument to $each"},
		{`{"$push": {"a": {"$each": [], "$foo": 1}}}`, `{}`, "2 Unrecognized clause in $push: $foo"},
		{`{"$push": {"a": {"$each": [], "$sort": 2}}}`, `{}`, "2 The $sort element value"},
		{`{"$pop": {"a": 2}}`, `{}`, "9 $pop expects 1 or -1"},
		{`{"$pop": {"a": 1}}`, `{"a": 1}`, "14 Path 'a' contains an element of non-array type 'int'"},
		{`{"$pullAll": {"a": 1}}`, `{}`, "2 $pullAll requires an array"},
		{`{"$rename": {"a": 1}}`, `{}`, "2 The 'to' field for $rename must be a string"},
		{`{"$rename": {"a.0": "b"}}`, `{"a": [1]}`, "2 The path 'a.0' of $rename leads through an array"},
		{`{"$currentDate": {"a": {"$type": "hour"}}}`, `{}`, "2 "},
		{`{"$set": {"a.$[x]": 1}}`, `{"a": []}`, "2 No array filter found for identifier 'x'"},
		{`{"$set": {"a.$[]": 1}}`, `{"a": 5}`, "2 Cannot apply array updates to non-array element a"},
		{`{"$set": {"a.$[]": 1}}`, `{}`, "2 The path 'a' must exist"},
	} {
		_, err := apply(t, c.update, c.on, false)
		var f *fault.Error
		require.ErrorAs(t, err, &f, c.update)
		assert.Contains(t, fmt.Sprintf("%d %s", f.Code, f.Message), c.says, c.update)
	}
	_, err := apply(t, `{"$set": {"a": 1}}`, `{}`, false, `{"x": 1}`)
	assert.ErrorContains(t, err, "was not used in the update")
	_, err = apply(t, `{"$set": {"a.$[x]": 1}}`, `{}`, false, `{"x": 1, "y": 2}`)
	assert.ErrorContains(t, err, "Expected a single top-level field name")
}

// model does the same to decoded documents, slowly and as the definitions have it.
func model(operator string, old any, found bool, operand any) (now any, keep, ok bool) {
	switch operator {
	case "$set":
		return operand, true, true
	case "$unset":
		return nil, false, true
	case "$inc":
		n, is := old.(int64)
		switch {
		case !found:
			return operand, true, true
		case !is:
			return nil, true, false
		}
		return n + operand.(int64), true, true
	}
	list, is := old.(bson.A)
	if found && !is {
		return nil, true, false
	}
	out := bson.A{}
	switch operator {
	case "$push":
		return append(append(out, list...), operand), true, true
	case "$addToSet":
		for _, e := range list {
			if same(e, operand) {
				return list, true, true
			}
		}
		return append(append(out, list...), operand), true, true
	}
	if !found {
		return nil, false, true
	}
	for _, e := range list { // $pullAll
		if !same(e, operand) {
			out = append(out, e)
		}
	}
	return out, true, true
}

func same(a, b any) bool {
	x, _ := bson.Marshal(bson.D{{Key: "v", Value: a}})
	y, _ := bson.Marshal(bson.D{{Key: "v", Value: b}})
	return value.Equal(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: x}, bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: y})
}

// at changes what a path through documents leads to.
func at(v any, there bool, path []string, change func(old any, found bool) (any, bool, bool), create bool) (now any, keep, ok bool) {
	if len(path) == 0 {
		return change(v, there)
	}
	d, is := v.(bson.D)
	if there && !is {
		return v, true, !create // nothing can be made in it
	}
	out := bson.D{}
	found := false
	for _, e := range d {
		if e.Key == path[0] {
			found = true
			now, keep, ok := at(e.Value, true, path[1:], change, create)
			if !ok {
				return nil, false, false
			}
			if !keep {
				continue
			}
			e.Value = now
		}
		out = append(out, e)
	}
	if !found {
		now, keep, ok := at(nil, false, path[1:], change, create)
		if !ok {
			return nil, false, false
		}
		if keep && create {
			return append(out, bson.E{Key: path[0], Value: now}), true, true
		}
		return out, there, true
	}
	return out, true, true
}

func leaf() *rapid.Generator[any] {
	n := rapid.Map(rapid.Int64Range(0, 3), func(n int64) any { return n })
	return rapid.OneOf(n, rapid.Just[any]("x"), rapid.Just[any](nil), rapid.Map(rapid.SliceOfN(n, 0, 3), func(l []any) any { return bson.A(l) }))
}

func nested(depth int) *rapid.Generator[any] {
	if depth == 0 {
		return leaf()
	}
	return rapid.OneOf(leaf(), rapid.Custom(func(t *rapid.T) any { return some(depth).Draw(t, "document") }))
}

func some(depth int) *rapid.Generator[bson.D] {
	return rapid.Custom(func(t *rapid.T) bson.D {
		d := bson.D{}
		for _, name := range []string{"a", "b", "c"} {
			if rapid.Bool().Draw(t, name) {
				d = append(d, bson.E{Key: name, Value: nested(depth-1).Draw(t, "value")})
			}
		}
		return d
	})
}

// On any document, each operator does what its definition says, and no more.
func TestOperatorsByDefinition(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		d := some(3).Draw(r, "document")
		path := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "c"}), 1, 3).Draw(r, "path")
		operator := rapid.SampledFrom([]string{"$set", "$unset", "$inc", "$push", "$addToSet", "$pullAll"}).Draw(r, "operator")
		var operand any = rapid.Int64Range(0, 3).Draw(r, "operand")
		create := operator != "$unset" && operator != "$pullAll"
		want, _, ok := at(d, true, path, func(old any, found bool) (any, bool, bool) { return model(operator, old, found, operand) }, create)
		written := operand
		if operator == "$pullAll" {
			written = bson.A{operand}
		}
		name := path[0]
		for _, p := range path[1:] {
			name += "." + p
		}
		raw, err := bson.Marshal(bson.D{{Key: operator, Value: bson.D{{Key: name, Value: written}}}})
		require.NoError(r, err)
		u, err := update.Parse(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: raw}, nil)
		require.NoError(r, err)
		before, err := bson.Marshal(d)
		require.NoError(r, err)
		got, err := u.Apply(before, update.About{})
		if !ok {
			require.Error(r, err, "%v on %v", bson.Raw(raw), bson.Raw(before))
			return
		}
		require.NoError(r, err, "%v on %v", bson.Raw(raw), bson.Raw(before))
		after, err := bson.Marshal(want)
		require.NoError(r, err)
		require.Equal(r, bson.Raw(after).String(), got.String(), "%v on %v", bson.Raw(raw), bson.Raw(before))
	})
}
