// Package query tells which documents a filter means. Its operators are those of the
// protocol's documentation ("Query Predicates"); one that isn't here is an error that
// names it, and never left out.
package query

import (
	"math"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Filter is a filter that has been read.
type Filter struct{ node node }

// node is a part of a filter.
type node interface{ matches(bson.RawValue) bool }

// Matches reports whether the filter means a document. The document must have been
// validated.
func (f *Filter) Matches(document bson.Raw) bool {
	return f.node.matches(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: document})
}

// depth is how deep filters may be nested.
const depth = 80

// Parse reads a filter. Its errors are of the type *fault.Error.
func Parse(filter bson.Raw) (*Filter, error) {
	if len(filter) == 0 {
		return &Filter{all{}}, nil
	}
	if err := value.Validate(filter); err != nil {
		return nil, fault.FailedToParse("the filter is no valid document: %v", err)
	}
	n, err := parse(filter, 0)
	if err != nil {
		return nil, err
	}
	return &Filter{n}, nil
}

func parse(filter bson.Raw, level int) (node, error) {
	if level > depth {
		return nil, fault.BadValue("the filter is nested deeper than %d", depth)
	}
	var parts all
	var problem error
	value.Elements(filter, func(name string, v bson.RawValue) bool {
		var n node
		if strings.HasPrefix(name, "$") {
			n, problem = parseTop(name, v, level)
		} else {
			n, problem = parseField(strings.Split(name, "."), v, level)
		}
		if n != nil {
			parts = append(parts, n)
		}
		return problem == nil
	})
	return parts, problem
}

// all is met if each of its parts is, any if one is, none if no part is.
type (
	all  []node
	any  []node
	none []node
)

func (a all) matches(d bson.RawValue) bool {
	for _, n := range a {
		if !n.matches(d) {
			return false
		}
	}
	return true
}

func (a any) matches(d bson.RawValue) bool {
	for _, n := range a {
		if n.matches(d) {
			return true
		}
	}
	return false
}

func (a none) matches(d bson.RawValue) bool { return !any(a).matches(d) }

// parseTop reads an operator that stands in the place of a field.
func parseTop(name string, v bson.RawValue, level int) (node, error) {
	switch name {
	case "$and", "$or", "$nor":
		list, err := filters(name, v, level)
		if err != nil {
			return nil, err
		}
		return map[string]node{"$and": all(list), "$or": any(list), "$nor": none(list)}[name], nil
	case "$comment":
		return nil, nil
	case "$expr", "$text", "$where", "$jsonSchema", "$sampleRate", "$alwaysTrue", "$alwaysFalse":
		return nil, fault.NotImplemented("%s is not here", name)
	}
	return nil, fault.BadValue("unknown top level operator: %s. If you have a field name that starts with a '$' symbol, consider using $getField or $setField.", name)
}

// filters reads a list of filters.
func filters(name string, v bson.RawValue, level int) ([]node, error) {
	if v.Type != bson.TypeArray {
		return nil, fault.BadValue("%s must be an array", name)
	}
	var out []node
	var problem error
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		if e.Type != bson.TypeEmbeddedDocument {
			problem = fault.BadValue("%s's entries need to be full objects", name)
			return false
		}
		var n node
		n, problem = parse(e.Value, level+1)
		out = append(out, n)
		return problem == nil
	})
	if problem == nil && len(out) == 0 {
		problem = fault.BadValue("%s must be a nonempty array", name)
	}
	return out, problem
}

// field is a condition of what a path leads to.
type field struct {
	path []string
	is   condition
}

// condition is met, or not, by a value to which a path leads: or that has none of it.
type condition func(v bson.RawValue, found bool) bool

// matches holds for an array if the condition does for an element.
func (f field) matches(d bson.RawValue) bool { return candidates(d, f.path, f.is) }

// whole is a condition of what a path leads to, arrays being taken as such.
type whole field

func (w whole) matches(d bson.RawValue) bool { return walk(d, w.path, w.is) }

// parseField reads what is asked of a field: a value, or operators.
func parseField(path []string, v bson.RawValue, level int) (node, error) {
	switch {
	case v.Type == bson.TypeRegex:
		pattern, options := v.Regex()
		return parseRegex(path, pattern, options, v)
	case v.Type == bson.TypeEmbeddedDocument && operators(v.Value):
		return parseOperators(path, v.Value, level)
	}
	return field{path, equal(v)}, nil
}

// operators reports whether a document is one of operators.
func operators(document []byte) bool {
	is := false
	value.Elements(document, func(name string, _ bson.RawValue) bool {
		is = strings.HasPrefix(name, "$") && name != "$ref" && name != "$id" && name != "$db"
		return false
	})
	return is
}

func parseOperators(path []string, document []byte, level int) (node, error) {
	if level > depth {
		return nil, fault.BadValue("the filter is nested deeper than %d", depth)
	}
	var parts all
	var problem error
	value.Elements(document, func(name string, v bson.RawValue) bool {
		var n node
		n, problem = parseOperator(path, name, v, document, level)
		if n != nil {
			parts = append(parts, n)
		}
		return problem == nil
	})
	return parts, problem
}

func parseOperator(path []string, name string, v bson.RawValue, beside []byte, level int) (node, error) {
	switch name {
	case "$eq":
		return field{path, equal(v)}, nil
	case "$ne":
		if v.Type == bson.TypeRegex {
			return nil, fault.BadValue("Can't have regex as arg to $ne.")
		}
		return none{field{path, equal(v)}}, nil
	case "$gt", "$gte", "$lt", "$lte":
		if v.Type == bson.TypeRegex {
			return nil, fault.BadValue("Can't have RegEx as arg to predicate over field '%s'.", strings.Join(path, "."))
		}
		return field{path, compared(name, v)}, nil
	case "$in", "$nin":
		n, err := parseIn(path, name, v)
		if err == nil && name == "$nin" {
			n = none{n}
		}
		return n, err
	case "$not":
		return parseNot(path, v, level)
	case "$exists":
		is := field{path, func(_ bson.RawValue, found bool) bool { return found }}
		if Truth(v) {
			return is, nil
		}
		return none{is}, nil
	case "$type":
		return parseType(path, v)
	case "$size":
		return parseSize(path, v)
	case "$all":
		return parseAll(path, v, level)
	case "$elemMatch":
		return parseElemMatch(path, v, level)
	case "$mod":
		return parseMod(path, v)
	case "$regex":
		return parseRegexWith(path, v, beside)
	case "$options":
		if _, ok := value.Member(beside, "$regex"); !ok {
			return nil, fault.BadValue("$options needs a $regex")
		}
		return nil, nil
	case "$comment":
		return nil, nil
	case "$bitsAllClear", "$bitsAllSet", "$bitsAnyClear", "$bitsAnySet", "$geoIntersects", "$geoWithin", "$near", "$nearSphere", "$within":
		return nil, fault.NotImplemented("%s is not here", name)
	}
	return nil, fault.BadValue("unknown operator: %s", name)
}

// Truth reports whether a value counts as true: all do but null, false, and 0.
func Truth(v bson.RawValue) bool {
	switch value.ClassOf(v.Type) {
	case value.ClassNull, value.ClassUndefined:
		return false
	case value.ClassBoolean:
		return v.Value[0] != 0
	case value.ClassNumber:
		n, whole := value.Integer(v)
		return !whole || n != 0
	}
	return true
}

func isNull(v bson.RawValue) bool {
	c := value.ClassOf(v.Type)
	return c == value.ClassNull || c == value.ClassUndefined
}

// equal is met by what equals a value; null is met by what isn't there, too.
func equal(to bson.RawValue) condition {
	if isNull(to) {
		return func(v bson.RawValue, found bool) bool { return !found || isNull(v) }
	}
	return func(v bson.RawValue, found bool) bool { return found && value.Equal(v, to) }
}

// compared is met by what is of the class of a value and on the side of it that an
// operator means.
func compared(operator string, to bson.RawValue) condition {
	holds := map[string]func(int) bool{"$gt": func(d int) bool { return d > 0 }, "$gte": func(d int) bool { return d >= 0 }, "$lt": func(d int) bool { return d < 0 }, "$lte": func(d int) bool { return d <= 0 }}[operator]
	class := value.ClassOf(to.Type)
	switch {
	case isNull(to):
		if operator == "$gte" || operator == "$lte" {
			return equal(to)
		}
		return func(bson.RawValue, bool) bool { return false }
	case class == value.ClassMinKey || class == value.ClassMaxKey: // which are compared to all
		return func(v bson.RawValue, found bool) bool { return found && holds(value.Compare(v, to)) }
	case notANumber(to): // which equals itself, and is neither more nor less
		return func(v bson.RawValue, found bool) bool { return found && notANumber(v) && holds(0) }
	}
	return func(v bson.RawValue, found bool) bool {
		return found && value.ClassOf(v.Type) == class && !notANumber(v) && holds(value.Compare(v, to))
	}
}

func notANumber(v bson.RawValue) bool {
	switch v.Type {
	case bson.TypeDouble:
		return math.IsNaN(v.Double())
	case bson.TypeDecimal128:
		return v.Decimal128().IsNaN()
	}
	return false
}
