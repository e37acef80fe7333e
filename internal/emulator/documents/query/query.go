// Package query tells which documents a filter means. Its operators are those of the
// protocol's documentation ("Query Predicates"); one that isn't here is an error that
// names it, and never left out.
package query

import (
	"math"
	"strings"
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Filter is a filter that has been read.
type Filter struct {
	node   node
	bounds []Bound
	parser parser
}

// Collation returns the order of texts that the filter was read with.
func (f *Filter) Collation() *value.Collation { return f.parser.Collation }

// Variables returns the variables that the filter was read with.
func (f *Filter) Variables() map[string]bson.RawValue { return f.parser.Variables }

// Err returns what went wrong when the filter was asked about a document: an expression
// that can't be computed, after which it doesn't mean the document.
func (f *Filter) Err() error {
	if err := f.parser.failed.Load(); err != nil {
		return *err
	}
	return nil
}

// Options are what a filter is read with.
type Options struct {
	// Collation is the order of texts, nil for that of their bytes.
	Collation *value.Collation
	// Text are the paths that $text looks at, nil if there is no index of texts.
	Text [][]string
	// Variables are those that $expr can name.
	Variables map[string]bson.RawValue
}

// parser reads a filter, level deep in it.
type parser struct {
	Options
	level  int
	failed *atomic.Pointer[error]
}

// node is a part of a filter.
type node interface{ matches(bson.RawValue) bool }

// Matches reports whether the filter means a document. The document must have been
// validated.
func (f *Filter) Matches(document bson.Raw) bool {
	return f.node.matches(bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: document})
}

// depth is how deep filters may be nested.
const depth = 80

// Parse reads a filter as ParseWith does, without options.
func Parse(filter bson.Raw) (*Filter, error) { return ParseWith(filter, Options{}) }

// ParseWith reads a filter. Its errors are of the type *fault.Error.
func ParseWith(filter bson.Raw, options Options) (*Filter, error) {
	p := parser{Options: options, failed: &atomic.Pointer[error]{}}
	if len(filter) == 0 {
		return &Filter{node: all{}, parser: p}, nil
	}
	if err := value.Validate(filter); err != nil {
		return nil, fault.FailedToParse("the filter is no valid document: %v", err)
	}
	n, err := p.parse(filter)
	if err != nil {
		return nil, err
	}
	return &Filter{node: n, bounds: boundsOf(nil, filter), parser: p}, nil
}

func (p parser) parse(filter bson.Raw) (node, error) {
	if p.level++; p.level > depth {
		return nil, fault.BadValue("the filter is nested deeper than %d", depth)
	}
	var parts all
	var problem error
	value.Elements(filter, func(name string, v bson.RawValue) bool {
		var n node
		if strings.HasPrefix(name, "$") {
			n, problem = p.parseTop(name, v)
		} else {
			n, problem = p.parseField(strings.Split(name, "."), v)
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
func (p parser) parseTop(name string, v bson.RawValue) (node, error) {
	switch name {
	case "$and", "$or", "$nor":
		list, err := p.filters(name, v)
		if err != nil {
			return nil, err
		}
		return map[string]node{"$and": all(list), "$or": any(list), "$nor": none(list)}[name], nil
	case "$comment":
		return nil, nil
	case "$expr":
		e, err := expression.Parse(v, p.Collation)
		return computed{e, p.Variables, p.failed}, err
	case "$text":
		return p.parseText(v)
	case "$where", "$jsonSchema", "$sampleRate", "$alwaysTrue", "$alwaysFalse":
		return nil, fault.NotImplemented("%s is not here", name)
	}
	return nil, fault.BadValue("unknown top level operator: %s. If you have a field name that starts with a '$' symbol, consider using $getField or $setField.", name)
}

// filters reads a list of filters.
func (p parser) filters(name string, v bson.RawValue) ([]node, error) {
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
		n, problem = p.parse(e.Value)
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
func (p parser) parseField(path []string, v bson.RawValue) (node, error) {
	switch {
	case v.Type == bson.TypeRegex:
		pattern, options := v.Regex()
		return p.parseRegex(path, pattern, options, v)
	case v.Type == bson.TypeEmbeddedDocument && operators(v.Value):
		return p.parseOperators(path, v.Value)
	}
	return field{path, p.equal(v)}, nil
}

// computed is met by documents of which an expression is true.
type computed struct {
	expression *expression.Expression
	variables  map[string]bson.RawValue
	failed     *atomic.Pointer[error]
}

func (c computed) matches(d bson.RawValue) bool {
	v, err := c.expression.Of(d, c.variables)
	if err != nil {
		c.failed.Store(&err)
	}
	return err == nil && expression.Truth(v)
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

func (p parser) parseOperators(path []string, document []byte) (node, error) {
	if p.level++; p.level > depth {
		return nil, fault.BadValue("the filter is nested deeper than %d", depth)
	}
	var parts all
	var problem error
	value.Elements(document, func(name string, v bson.RawValue) bool {
		var n node
		n, problem = p.parseOperator(path, name, v, document)
		if n != nil {
			parts = append(parts, n)
		}
		return problem == nil
	})
	return parts, problem
}

func (p parser) parseOperator(path []string, name string, v bson.RawValue, beside []byte) (node, error) {
	switch name {
	case "$eq":
		return field{path, p.equal(v)}, nil
	case "$ne":
		if v.Type == bson.TypeRegex {
			return nil, fault.BadValue("Can't have regex as arg to $ne.")
		}
		return none{field{path, p.equal(v)}}, nil
	case "$gt", "$gte", "$lt", "$lte":
		if v.Type == bson.TypeRegex {
			return nil, fault.BadValue("Can't have RegEx as arg to predicate over field '%s'.", strings.Join(path, "."))
		}
		return field{path, p.compared(name, v)}, nil
	case "$in", "$nin":
		n, err := p.parseIn(path, name, v)
		if err == nil && name == "$nin" {
			n = none{n}
		}
		return n, err
	case "$not":
		return p.parseNot(path, v)
	case "$exists":
		is := field{path, func(_ bson.RawValue, found bool) bool { return found }}
		if expression.Truth(v) {
			return is, nil
		}
		return none{is}, nil
	case "$type":
		return p.parseType(path, v)
	case "$size":
		return p.parseSize(path, v)
	case "$all":
		return p.parseAll(path, v)
	case "$elemMatch":
		return p.parseElemMatch(path, v)
	case "$mod":
		return p.parseMod(path, v)
	case "$regex":
		return p.parseRegexWith(path, v, beside)
	case "$options":
		if _, ok := value.Member(beside, "$regex"); !ok {
			return nil, fault.BadValue("$options needs a $regex")
		}
		return nil, nil
	case "$comment":
		return nil, nil
	case "$bitsAllClear", "$bitsAllSet", "$bitsAnyClear", "$bitsAnySet":
		return p.parseBits(path, name, v)
	case "$geoIntersects", "$geoWithin", "$near", "$nearSphere", "$within":
		return nil, fault.NotImplemented("%s is not here", name)
	}
	return nil, fault.BadValue("unknown operator: %s", name)
}

func isNull(v bson.RawValue) bool {
	c := value.ClassOf(v.Type)
	return c == value.ClassNull || c == value.ClassUndefined
}

// equal is met by what equals a value; null is met by what isn't there, too.
func (p parser) equal(to bson.RawValue) condition {
	if isNull(to) {
		return func(v bson.RawValue, found bool) bool { return !found || isNull(v) }
	}
	if p.Collation != nil {
		return func(v bson.RawValue, found bool) bool { return found && p.Collation.Equal(v, to) }
	}
	return func(v bson.RawValue, found bool) bool { return found && value.Equal(v, to) }
}

// compared is met by what is of the class of a value and on the side of it that an
// operator means.
func (p parser) compared(operator string, to bson.RawValue) condition {
	holds := map[string]func(int) bool{"$gt": func(d int) bool { return d > 0 }, "$gte": func(d int) bool { return d >= 0 }, "$lt": func(d int) bool { return d < 0 }, "$lte": func(d int) bool { return d <= 0 }}[operator]
	class := value.ClassOf(to.Type)
	switch {
	case isNull(to):
		if operator == "$gte" || operator == "$lte" {
			return p.equal(to)
		}
		return func(bson.RawValue, bool) bool { return false }
	case class == value.ClassMinKey || class == value.ClassMaxKey: // which are compared to all
		return func(v bson.RawValue, found bool) bool { return found && holds(value.Compare(v, to)) }
	case notANumber(to): // which equals itself, and is neither more nor less
		return func(v bson.RawValue, found bool) bool { return found && notANumber(v) && holds(0) }
	}
	return func(v bson.RawValue, found bool) bool {
		return found && value.ClassOf(v.Type) == class && !notANumber(v) && holds(p.Collation.Compare(v, to))
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
