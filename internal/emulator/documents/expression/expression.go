// Package expression computes values of documents. Its operators are those of the
// protocol's documentation ("Aggregation Expression Operators"); one that isn't here is an
// error that names it.
package expression

import (
	"fmt"
	"maps"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Expression is one that has been read. It may be used at the same time.
type Expression struct{ node node }

// Missing is the value of what isn't there.
var Missing = bson.RawValue{}

// node computes a value.
type node func(*scope) (bson.RawValue, error)

// scope is what an expression can name.
type scope struct {
	root      bson.RawValue
	current   bson.RawValue
	variables map[string]bson.RawValue
}

// with returns a scope with one variable more.
func (s *scope) with(name string, v bson.RawValue) *scope {
	inner := *s
	inner.variables = maps.Clone(s.variables)
	if inner.variables == nil {
		inner.variables = map[string]bson.RawValue{}
	}
	inner.variables[name] = v
	return &inner
}

// Of returns the value that the expression has for a document, Missing if it has none.
// Its errors are of the type *fault.Error.
func (e *Expression) Of(document bson.RawValue, variables map[string]bson.RawValue) (bson.RawValue, error) {
	return e.node(&scope{root: document, current: document, variables: variables})
}

// Truth reports whether a value counts as true: all do but null, false, 0, and what isn't
// there.
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

// null reports whether a value is null, or isn't there.
func null(v bson.RawValue) bool {
	c := value.ClassOf(v.Type)
	return c == value.ClassNull || c == value.ClassUndefined
}

// parser reads expressions, level deep in one.
type parser struct {
	collation *value.Collation
	level     int
}

// Parse reads an expression. Texts are compared as the collation says. Its errors are of
// the type *fault.Error.
func Parse(v bson.RawValue, c *value.Collation) (*Expression, error) {
	n, err := parser{collation: c}.parse(v)
	return &Expression{n}, err
}

const mostLevels = 150

func constant(v bson.RawValue) node {
	return func(*scope) (bson.RawValue, error) { return v, nil }
}

func (p parser) parse(v bson.RawValue) (node, error) {
	if p.level++; p.level > mostLevels {
		return nil, fault.FailedToParse("the expression is nested deeper than %d", mostLevels)
	}
	switch v.Type {
	case bson.TypeString:
		text := v.StringValue()
		switch {
		case strings.HasPrefix(text, "$$"):
			return p.variable(text[2:])
		case strings.HasPrefix(text, "$"):
			return fieldPath(text[1:])
		}
	case bson.TypeArray:
		all, err := p.each(value.Items(v))
		return func(s *scope) (bson.RawValue, error) {
			out, err := values(s, all)
			for i := range out {
				if out[i].Type == 0 {
					out[i] = value.Null
				}
			}
			if err != nil {
				return Missing, err
			}
			made := value.Array(out)
			return made, bounded("an array", made, nil)
		}, err
	case bson.TypeEmbeddedDocument:
		return p.document(v)
	}
	return constant(v), nil
}

func (p parser) each(all []bson.RawValue) ([]node, error) {
	var out []node
	for _, v := range all {
		n, err := p.parse(v)
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// values computes all of some nodes.
func values(s *scope, all []node) ([]bson.RawValue, error) {
	out := make([]bson.RawValue, len(all))
	for i, n := range all {
		var err error
		if out[i], err = n(s); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// document reads an operator, or a document of expressions.
func (p parser) document(v bson.RawValue) (node, error) {
	members := value.Members(v.Value)
	if len(members) > 0 && strings.HasPrefix(members[0].Name, "$") {
		if len(members) > 1 {
			return nil, &fault.Error{Code: 15983, Name: "Location15983", Message: "an object representing an expression must have exactly one field: " + value.String(v)}
		}
		return p.operator(members[0].Name, members[0].Value)
	}
	var all []node
	for _, m := range members {
		if strings.HasPrefix(m.Name, "$") || strings.Contains(m.Name, ".") {
			return nil, &fault.Error{Code: 16410, Name: "Location16410", Message: fmt.Sprintf("FieldPath field names may not start with '$' or contain '.': '%s'", m.Name)}
		}
		n, err := p.parse(m.Value)
		if err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	return func(s *scope) (bson.RawValue, error) {
		out := value.Begin(nil)
		for i, n := range all {
			v, err := n(s)
			if err != nil {
				return v, err
			}
			if v.Type != 0 {
				out = value.Append(out, members[i].Name, v)
			}
		}
		made := value.OfDocument(value.Finish(out))
		return made, bounded("a document", made, nil)
	}, nil
}

func (p parser) operator(name string, v bson.RawValue) (node, error) {
	if special := specials[name]; special != nil {
		return special(p, v)
	}
	op, ok := operators[name]
	if !ok {
		return nil, &fault.Error{Code: 168, Name: "InvalidPipelineOperator", Message: "Unrecognized expression '" + name + "', or one that is not here"}
	}
	arguments := []bson.RawValue{v}
	if v.Type == bson.TypeArray {
		arguments = value.Items(v)
	}
	if n := len(arguments); n < op.least || op.most >= 0 && n > op.most {
		return nil, &fault.Error{Code: 16020, Name: "Location16020", Message: fmt.Sprintf("Expression %s takes %s. %d were passed in.", name, op.takes(), n)}
	}
	all, err := p.each(arguments)
	if err != nil {
		return nil, err
	}
	return func(s *scope) (bson.RawValue, error) {
		args, err := values(s, all)
		if err != nil {
			return Missing, err
		}
		v, err := op.do(&call{name, p.collation}, args)
		return v, bounded(name, v, err)
	}, nil
}

// bounded makes sure that a value is not larger than a document may be, which would be
// made larger and larger by an expression that goes on with it.
func bounded(name string, v bson.RawValue, err error) error {
	if err == nil && len(v.Value) > value.MostBytes {
		return fault.TooLarge("what %s makes is larger than %d bytes", name, value.MostBytes)
	}
	return err
}

// operator is one whose arguments are all computed before it is.
type operator struct {
	least, most int // arguments; -1: any number
	do          func(*call, []bson.RawValue) (bson.RawValue, error)
}

func (o operator) takes() string {
	switch {
	case o.most < 0:
		return fmt.Sprintf("at least %d arguments", o.least)
	case o.least == o.most:
		return fmt.Sprintf("exactly %d arguments", o.least)
	}
	return fmt.Sprintf("at least %d arguments, and at most %d", o.least, o.most)
}

// call is what an operator knows beside its arguments.
type call struct {
	name      string
	collation *value.Collation
}

// wrong says that an argument is not what the operator takes.
func (c *call) wrong(v bson.RawValue, wanted string) error {
	is := value.Name(v.Type)
	if v.Type == 0 {
		is = "missing"
	}
	return fault.TypeMismatch("%s needs %s, and got %s", c.name, wanted, is)
}

// fieldPath computes what a path leads to. Of an array it is what it leads to from each
// of the documents in it.
func fieldPath(text string) (node, error) {
	path, err := splitPath(text)
	return func(s *scope) (bson.RawValue, error) { return follow(s.current, path), nil }, err
}

func splitPath(text string) ([]string, error) {
	path := strings.Split(text, ".")
	for _, part := range path {
		if part == "" || strings.HasPrefix(part, "$") {
			return nil, &fault.Error{Code: 15998, Name: "Location15998", Message: fmt.Sprintf("FieldPath field names may not be empty strings, or begin with $: '%s'", text)}
		}
	}
	return path, nil
}

func follow(v bson.RawValue, path []string) bson.RawValue {
	for i, part := range path {
		switch v.Type {
		case bson.TypeEmbeddedDocument:
			m, ok := value.Member(v.Value, part)
			if !ok {
				return Missing
			}
			v = m
		case bson.TypeArray:
			var out []bson.RawValue
			for _, e := range value.Items(v) {
				if e.Type != bson.TypeEmbeddedDocument {
					continue
				}
				if e = follow(e, path[i:]); e.Type != 0 {
					out = append(out, e)
				}
			}
			return value.Array(out)
		default:
			return Missing
		}
	}
	return v
}

// variable computes a variable, or what a path leads to from it.
func (p parser) variable(text string) (node, error) {
	name, rest, more := strings.Cut(text, ".")
	var path []string
	if more {
		var err error
		if path, err = splitPath(rest); err != nil {
			return nil, err
		}
	}
	switch name {
	case "ROOT":
		return func(s *scope) (bson.RawValue, error) { return follow(s.root, path), nil }, nil
	case "CURRENT":
		return func(s *scope) (bson.RawValue, error) { return follow(s.current, path), nil }, nil
	case "NOW":
		now := value.Of(time.Now().Truncate(time.Millisecond))
		return func(s *scope) (bson.RawValue, error) {
			if v, ok := s.variables["NOW"]; ok { // the same in all of a command
				return follow(v, path), nil
			}
			return follow(now, path), nil
		}, nil
	case "REMOVE":
		return constant(Missing), nil
	case "DESCEND", "PRUNE", "KEEP", "CLUSTER_TIME", "USER_ROLES", "SEARCH_META":
		return nil, fault.NotImplemented("the variable $$%s is not here", name)
	}
	return func(s *scope) (bson.RawValue, error) {
		v, ok := s.variables[name]
		if !ok {
			return v, &fault.Error{Code: 17276, Name: "Location17276", Message: "Use of undefined variable: " + name}
		}
		return follow(v, path), nil
	}, nil
}
