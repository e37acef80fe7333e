package expression

import (
	"fmt"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// specials are operators that don't compute all of their arguments, or that bind variables.
var specials map[string]func(parser, bson.RawValue) (node, error)

func init() {
	specials = map[string]func(parser, bson.RawValue) (node, error){
		"$literal": func(_ parser, v bson.RawValue) (node, error) { return constant(v), nil },
		"$and":     func(p parser, v bson.RawValue) (node, error) { return p.logic(v, false) },
		"$or":      func(p parser, v bson.RawValue) (node, error) { return p.logic(v, true) },
		"$cond":    parser.cond, "$ifNull": parser.ifNull, "$switch": parser.choose, "$let": parser.let,
		"$filter": parser.filter, "$map": parser.mapped, "$reduce": parser.reduce,
		"$getField": parser.getField, "$setField": parser.setField, "$unsetField": parser.setField, "$sortArray": parser.sortArray, "$meta": func(parser, bson.RawValue) (node, error) { return nil, fault.NotImplemented("$meta is not here") },
	}
	for name := range named {
		specials[name] = func(p parser, v bson.RawValue) (node, error) { return p.named(name, v) }
	}
}

// logic computes $and and $or, as far as it must.
func (p parser) logic(v bson.RawValue, stop bool) (node, error) {
	arguments := []bson.RawValue{v}
	if v.Type == bson.TypeArray {
		arguments = value.Items(v)
	}
	all, err := p.each(arguments)
	return func(s *scope) (bson.RawValue, error) {
		for _, n := range all {
			v, err := n(s)
			if err != nil {
				return v, err
			}
			if Truth(v) == stop {
				return value.Of(stop), nil
			}
		}
		return value.Of(!stop), nil
	}, err
}

// options reads the named arguments of an operator. Those with a ? may be left out; their
// node is nil then.
func (p parser) options(name string, v bson.RawValue, wanted ...string) (map[string]node, error) {
	if v.Type != bson.TypeEmbeddedDocument {
		return nil, fault.FailedToParse("%s only supports an object as its argument", name)
	}
	out := map[string]node{}
	known := map[string]bool{}
	for _, w := range wanted {
		known[strings.TrimSuffix(w, "?")] = true
	}
	for _, m := range value.Members(v.Value) {
		if !known[m.Name] {
			return nil, fault.FailedToParse("Unrecognized parameter to %s: %s", name, m.Name)
		}
		n, err := p.parse(m.Value)
		if err != nil {
			return nil, err
		}
		out[m.Name] = n
	}
	for _, w := range wanted {
		if out[w] == nil && !strings.HasSuffix(w, "?") {
			return nil, fault.FailedToParse("Missing '%s' parameter to %s", w, name)
		}
	}
	return out, nil
}

func (p parser) cond(v bson.RawValue) (node, error) {
	var is, then, or node
	if v.Type == bson.TypeArray {
		all, err := p.each(value.Items(v))
		if err != nil {
			return nil, err
		}
		if len(all) != 3 {
			return nil, &fault.Error{Code: 16020, Name: "Location16020", Message: fmt.Sprintf("Expression $cond takes exactly 3 arguments. %d were passed in.", len(all))}
		}
		is, then, or = all[0], all[1], all[2]
	} else {
		o, err := p.options("$cond", v, "if", "then", "else")
		if err != nil {
			return nil, err
		}
		is, then, or = o["if"], o["then"], o["else"]
	}
	return func(s *scope) (bson.RawValue, error) {
		v, err := is(s)
		switch {
		case err != nil:
			return v, err
		case Truth(v):
			return then(s)
		}
		return or(s)
	}, nil
}

func (p parser) ifNull(v bson.RawValue) (node, error) {
	all, err := p.each(value.Items(v))
	if err == nil && (v.Type != bson.TypeArray || len(all) < 2) {
		err = &fault.Error{Code: 1257300, Name: "Location1257300", Message: "$ifNull needs at least two arguments"}
	}
	return func(s *scope) (v bson.RawValue, err error) {
		for _, n := range all {
			if v, err = n(s); err != nil || !null(v) {
				return v, err
			}
		}
		return v, nil
	}, err
}

func (p parser) choose(v bson.RawValue) (node, error) {
	branches, _ := value.Member(v.Value, "branches")
	if v.Type != bson.TypeEmbeddedDocument || branches.Type != bson.TypeArray {
		return nil, fault.FailedToParse("$switch expected an array for 'branches'")
	}
	var cases, thens []node
	for _, b := range value.Items(branches) {
		o, err := p.options("$switch", b, "case", "then")
		if err != nil {
			return nil, err
		}
		cases, thens = append(cases, o["case"]), append(thens, o["then"])
	}
	var or node
	if d, ok := value.Member(v.Value, "default"); ok {
		var err error
		if or, err = p.parse(d); err != nil {
			return nil, err
		}
	}
	return func(s *scope) (bson.RawValue, error) {
		for i, c := range cases {
			v, err := c(s)
			if err != nil {
				return v, err
			}
			if Truth(v) {
				return thens[i](s)
			}
		}
		if or == nil {
			return Missing, &fault.Error{Code: 40066, Name: "Location40066", Message: "$switch could not find a matching branch for an input, and no default was specified."}
		}
		return or(s)
	}, nil
}

func (p parser) let(v bson.RawValue) (node, error) {
	vars, _ := value.Member(v.Value, "vars")
	in, ok := value.Member(v.Value, "in")
	if v.Type != bson.TypeEmbeddedDocument || vars.Type != bson.TypeEmbeddedDocument || !ok {
		return nil, fault.FailedToParse("$let needs vars and in")
	}
	var names []string
	var all []node
	for _, m := range value.Members(vars.Value) {
		n, err := p.parse(m.Value)
		if err != nil {
			return nil, err
		}
		names, all = append(names, m.Name), append(all, n)
	}
	body, err := p.parse(in)
	return func(s *scope) (bson.RawValue, error) {
		inner := s
		for i, n := range all {
			v, err := n(s)
			if err != nil {
				return v, err
			}
			inner = inner.with(names[i], v)
		}
		return body(inner)
	}, err
}

// over reads what operators have that go through an array: it, and the name for its
// elements.
func (p parser) over(name string, v bson.RawValue, wanted ...string) (o map[string]node, as string, err error) {
	as = "this"
	var without []value.Named
	for _, m := range value.Members(v.Value) {
		if m.Name == "as" {
			if as, _ = m.Value.StringValueOK(); as == "" {
				return nil, "", fault.FailedToParse("'as' of %s must be a name", name)
			}
			continue
		}
		without = append(without, m)
	}
	if v.Type == bson.TypeEmbeddedDocument {
		v = value.OfDocument(value.Document(without...))
	}
	o, err = p.options(name, v, wanted...)
	return o, as, err
}

// elements computes the array that an operator goes through; is says that it is one, and
// not null.
func elements(s *scope, name string, input node) (all []bson.RawValue, is bool, err error) {
	v, err := input(s)
	switch {
	case err != nil || null(v):
		return nil, false, err
	case v.Type != bson.TypeArray:
		return nil, false, (&call{name: name}).wrong(v, "an array")
	}
	return value.Items(v), true, nil
}

func (p parser) filter(v bson.RawValue) (node, error) {
	o, as, err := p.over("$filter", v, "input", "cond", "limit?")
	return func(s *scope) (bson.RawValue, error) {
		all, is, err := elements(s, "$filter", o["input"])
		if err != nil || !is {
			return value.Null, err
		}
		limit := int64(len(all))
		if o["limit"] != nil {
			v, err := o["limit"](s)
			if err != nil {
				return v, err
			}
			if n, ok := value.Integer(v); ok && n > 0 {
				limit = n
			} else if !null(v) {
				return v, (&call{name: "$filter"}).wrong(v, "a limit above 0")
			}
		}
		var out []bson.RawValue
		for _, e := range all {
			v, err := o["cond"](s.with(as, e))
			if err != nil {
				return v, err
			}
			if Truth(v) && int64(len(out)) < limit {
				out = append(out, e)
			}
		}
		return value.Array(out), nil
	}, err
}

func (p parser) mapped(v bson.RawValue) (node, error) {
	o, as, err := p.over("$map", v, "input", "in")
	return func(s *scope) (bson.RawValue, error) {
		size := 0
		all, is, err := elements(s, "$map", o["input"])
		if err != nil || !is {
			return value.Null, err
		}
		for i, e := range all {
			if all[i], err = o["in"](s.with(as, e)); err != nil {
				return Missing, err
			}
			if size += len(all[i].Value); size > value.MostBytes {
				return Missing, bounded("$map", bson.RawValue{Value: make([]byte, size)}, nil)
			}
		}
		return value.Array(all), nil
	}, err
}

func (p parser) reduce(v bson.RawValue) (node, error) {
	o, err := p.options("$reduce", v, "input", "initialValue", "in")
	return func(s *scope) (bson.RawValue, error) {
		all, is, err := elements(s, "$reduce", o["input"])
		if err != nil || !is {
			return value.Null, err
		}
		sum, err := o["initialValue"](s)
		for _, e := range all {
			if err != nil {
				break
			}
			sum, err = o["in"](s.with("this", e).with("value", sum))
		}
		return sum, err
	}, err
}

func (p parser) getField(v bson.RawValue) (node, error) {
	if v.Type != bson.TypeEmbeddedDocument || len(value.Members(v.Value)) > 0 && strings.HasPrefix(value.Members(v.Value)[0].Name, "$") {
		v = value.OfDocument(value.Document(value.Named{Name: "field", Value: v}, value.Named{Name: "input", Value: value.Of("$$CURRENT")}))
	}
	o, err := p.options("$getField", v, "field", "input?")
	if err == nil && o["input"] == nil {
		o["input"], err = p.variable("CURRENT")
	}
	return func(s *scope) (bson.RawValue, error) {
		name, err := o["field"](s)
		if err != nil {
			return name, err
		}
		on, err := o["input"](s)
		text, is := name.StringValueOK()
		switch {
		case err != nil:
			return on, err
		case !is:
			return on, (&call{name: "$getField"}).wrong(name, "the name of a field")
		case on.Type != bson.TypeEmbeddedDocument:
			return Missing, nil
		}
		m, _ := value.Member(on.Value, text)
		return m, nil
	}, err
}

func (p parser) setField(v bson.RawValue) (node, error) {
	o, err := p.options("$setField", v, "field", "input", "value?")
	if err == nil && o["value"] == nil {
		o["value"] = constant(Missing)
	}
	return func(s *scope) (bson.RawValue, error) {
		name, err := o["field"](s)
		if err != nil {
			return name, err
		}
		on, err := o["input"](s)
		if err != nil || null(on) {
			return value.Null, err
		}
		now, err := o["value"](s)
		text, is := name.StringValueOK()
		switch {
		case err != nil:
			return now, err
		case !is || on.Type != bson.TypeEmbeddedDocument:
			return on, (&call{name: "$setField"}).wrong(on, "a name and a document")
		}
		return Set(on, []string{text}, now), nil
	}, err
}

// Set returns a document with a value at a path, or without one there if the value is
// Missing. It is set in each document of arrays on the way.
func Set(on bson.RawValue, path []string, to bson.RawValue) bson.RawValue {
	if len(path) == 0 {
		return to
	}
	switch {
	case on.Type == bson.TypeArray:
		all := value.Items(on)
		for i, e := range all {
			if e.Type == bson.TypeEmbeddedDocument || e.Type == bson.TypeArray || to.Type != 0 {
				all[i] = Set(e, path, to)
			}
		}
		return value.Array(all)
	case on.Type != bson.TypeEmbeddedDocument:
		if to.Type == 0 {
			return on
		}
		on = value.OfDocument(value.Document())
	}
	out, done := value.Begin(nil), false
	value.Elements(on.Value, func(name string, v bson.RawValue) bool {
		if name == path[0] {
			done = true
			v = Set(v, path[1:], to)
		}
		if name != path[0] || v.Type != 0 {
			out = value.Append(out, name, v)
		}
		return true
	})
	if !done && to.Type != 0 {
		out = value.Append(out, path[0], Set(Missing, path[1:], to))
	}
	return value.OfDocument(value.Finish(out))
}

func (p parser) sortArray(v bson.RawValue) (node, error) {
	var input node
	var by bson.RawValue
	for _, m := range value.Members(v.Value) {
		switch m.Name {
		case "input":
			var err error
			if input, err = p.parse(m.Value); err != nil {
				return nil, err
			}
		case "sortBy":
			by = m.Value
		}
	}
	if input == nil || by.Type == 0 {
		return nil, fault.FailedToParse("$sortArray needs input and sortBy")
	}
	less, err := order(by, p.collation)
	return func(s *scope) (bson.RawValue, error) {
		all, is, err := elements(s, "$sortArray", input)
		if err != nil || !is {
			return value.Null, err
		}
		sortStable(all, less)
		return value.Array(all), nil
	}, err
}

// order reads what elements are sorted by: 1 or -1, or paths with these.
func order(by bson.RawValue, c *value.Collation) (func(a, b bson.RawValue) int, error) {
	if n, ok := value.Integer(by); ok && (n == 1 || n == -1) {
		return func(a, b bson.RawValue) int { return int(n) * c.Compare(a, b) }, nil
	}
	if by.Type != bson.TypeEmbeddedDocument {
		return nil, fault.BadValue("elements are sorted by 1, -1, or paths with these")
	}
	type part struct {
		path []string
		n    int
	}
	var parts []part
	for _, m := range value.Members(by.Value) {
		n, ok := value.Integer(m.Value)
		path, err := splitPath(m.Name)
		if err != nil || !ok || n != 1 && n != -1 {
			return nil, fault.BadValue("elements are sorted by 1, -1, or paths with these")
		}
		parts = append(parts, part{path, int(n)})
	}
	return func(a, b bson.RawValue) int {
		for _, p := range parts {
			if d := c.Compare(follow(a, p.path), follow(b, p.path)); d != 0 {
				return d * p.n
			}
		}
		return 0
	}, nil
}
