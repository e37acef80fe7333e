// Package projection makes of a document what finds and pipelines ask to see of it: the
// members that are named, or all others, and values that are computed.
package projection

import (
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Projection is one that has been read. It may be used at the same time.
type Projection struct {
	include bool // only what is named stays
	named   tree
	id      bool // the _id stays
	edits   []edit
}

// tree are the named paths by their parts; one without a branch is named whole.
type tree map[string]tree

// edit makes a value that the projection asks for beside what stays.
type edit struct {
	path []string
	// make returns the value of a document, where that has been projected.
	make func(original, projected bson.RawValue, variables map[string]bson.RawValue) (bson.RawValue, error)
}

// Options are what a projection is read with.
type Options struct {
	// Filter is that of the find, for the operator $, and nil in a pipeline.
	Filter *query.Filter
	// Pipeline says that the projection is a pipeline's, which has fewer operators.
	Pipeline  bool
	Collation *value.Collation
}

// reader reads a projection.
type reader struct {
	*Projection
	Options
	mode   string // of the members but _id
	single bool   // _id alone was named, and stays
}

// Parse reads a projection; without members it leaves all in. Its errors are of the
// type *fault.Error.
func Parse(projection bson.Raw, o Options) (*Projection, error) {
	r := &reader{Projection: &Projection{named: tree{}, id: true}, Options: o}
	if len(projection) == 0 {
		return r.Projection, nil
	}
	if err := value.Validate(projection); err != nil {
		return nil, fault.FailedToParse("the projection is no valid document: %v", err)
	}
	if err := r.read("", projection); err != nil {
		return nil, err
	}
	r.include = r.mode == "inclusion" || r.mode == "" && r.single
	return r.Projection, nil
}

func (r *reader) read(before string, projection []byte) error {
	for _, m := range value.Members(projection) {
		path := before + m.Name
		var err error
		switch class := value.ClassOf(m.Value.Type); {
		case class == value.ClassBoolean || class == value.ClassNumber:
			err = r.flag(path, expression.Truth(m.Value))
		case class == value.ClassObject && !operators(m.Value) && len(m.Value.Value) > 5:
			err = r.read(path+".", m.Value.Value)
		case class == value.ClassObject && !r.Pipeline && first(m.Value) == "$slice" && plainSlice(m.Value):
			err = r.slice(path, m.Value)
		case class == value.ClassObject && !r.Pipeline && first(m.Value) == "$elemMatch":
			err = r.elemMatch(path, m.Value)
		default:
			err = r.compute(path, m.Value)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func first(document bson.RawValue) (name string) {
	value.Elements(document.Value, func(n string, _ bson.RawValue) bool { name = n; return false })
	return name
}

func operators(document bson.RawValue) bool { return strings.HasPrefix(first(document), "$") }

// is makes sure that members are not both named to stay and named to go.
func (r *reader) is(mode, path string) error {
	if r.mode != "" && r.mode != mode {
		code := map[string]int32{"inclusion": 31253, "exclusion": 31254}[mode]
		return &fault.Error{Code: code, Name: "Location" + strconv.Itoa(int(code)), Message: "Cannot do " + mode + " on field " + path + " in " + r.mode + " projection"}
	}
	r.mode = mode
	return nil
}

// flag reads whether a member stays.
func (r *reader) flag(path string, in bool) error {
	if path == "_id" {
		r.id, r.single = in, in
		return nil
	}
	if array, is := strings.CutSuffix(path, ".$"); is && !r.Pipeline && in {
		return r.positional(array)
	}
	if err := r.is(map[bool]string{true: "inclusion", false: "exclusion"}[in], path); err != nil {
		return err
	}
	return r.named.add(strings.Split(path, "."), path)
}

func (t tree) add(path []string, whole string) error {
	for i, part := range path {
		switch {
		case part == "" || strings.HasPrefix(part, "$"):
			return fault.NotImplemented("the projection of %s is not here", whole)
		case i == len(path)-1 && t[part] != nil, t[part] != nil && len(t[part]) == 0:
			return &fault.Error{Code: 31250, Name: "Location31250", Message: "Path collision at " + whole}
		}
		if t[part] == nil {
			t[part] = tree{}
		}
		t = t[part]
	}
	return nil
}

// compute reads an expression.
func (r *reader) compute(path string, v bson.RawValue) error {
	if err := r.is("inclusion", path); err != nil {
		return err
	}
	e, err := expression.Parse(v, r.Collation)
	if err != nil {
		return err
	}
	parts := strings.Split(path, ".")
	if slices.ContainsFunc(parts, func(part string) bool { return part == "" || strings.HasPrefix(part, "$") }) {
		return fault.NotImplemented("the projection of %s is not here", path)
	}
	if path == "_id" {
		r.id = false
	}
	r.edits = append(r.edits, edit{parts, func(original, _ bson.RawValue, variables map[string]bson.RawValue) (bson.RawValue, error) {
		return e.Of(original, variables)
	}})
	return nil
}

// numbers are the whole numbers of a $slice.
func numbers(v bson.RawValue) (out []int64, ok bool) {
	all := []bson.RawValue{v}
	if v.Type == bson.TypeArray {
		all = value.Items(v)
	}
	for _, e := range all {
		n, whole := value.Integer(e)
		if !whole {
			return nil, false
		}
		out = append(out, n)
	}
	return out, v.Type != bson.TypeArray || len(out) == 2
}

// plainSlice reports whether $slice is the operator of finds, and not the expression.
func plainSlice(v bson.RawValue) bool {
	n, _ := value.Member(v.Value, "$slice")
	_, ok := numbers(n)
	return ok
}

func (r *reader) slice(path string, v bson.RawValue) error {
	of, _ := value.Member(v.Value, "$slice")
	n, _ := numbers(of)
	if len(n) == 2 && n[1] <= 0 {
		return &fault.Error{Code: 28724, Name: "Location28724", Message: "$slice limit must be positive"}
	}
	parts := strings.Split(path, ".")
	r.edits = append(r.edits, edit{parts, func(original, projected bson.RawValue, _ map[string]bson.RawValue) (bson.RawValue, error) {
		on := projected
		if r.include { // it brings its member along
			on = original
		}
		array, ok := value.Lookup(on, parts)
		if !ok {
			return expression.Missing, errUnchanged
		}
		if array.Type != bson.TypeArray {
			return array, nil
		}
		return value.Array(expression.Slice(value.Items(array), n)), nil
	}})
	return nil
}

// errUnchanged says that nothing is to be set.
var errUnchanged = &fault.Error{}

func (r *reader) elemMatch(path string, v bson.RawValue) error {
	if err := r.is("inclusion", path); err != nil {
		return err
	}
	wanted, _ := value.Member(v.Value, "$elemMatch")
	f, err := query.ParseWith(value.Document(value.Named{Name: path, Value: value.OfDocument(value.Document(value.Named{Name: "$elemMatch", Value: wanted}))}), query.Options{Collation: r.Collation})
	if err != nil {
		return err
	}
	r.pick(path, func(d bson.Raw) (int, bool) {
		if !f.Matches(d) {
			return 0, false
		}
		return f.Position(d, strings.Split(path, "."))
	}, false)
	return nil
}

// positional reads the operator $: of an array the element that the filter is about.
func (r *reader) positional(path string) error {
	if err := r.is("inclusion", path); err != nil {
		return err
	}
	if r.Filter == nil {
		return fault.BadValue("the positional operator needs a find")
	}
	r.pick(path, func(d bson.Raw) (int, bool) { return r.Filter.Position(d, strings.Split(path, ".")) }, true)
	return nil
}

// pick lets one element of an array stay; must says that it is an error if there is none.
func (r *reader) pick(path string, position func(bson.Raw) (int, bool), must bool) {
	parts := strings.Split(path, ".")
	r.edits = append(r.edits, edit{parts, func(original, _ bson.RawValue, _ map[string]bson.RawValue) (bson.RawValue, error) {
		array, ok := value.Lookup(original, parts)
		if !ok || array.Type != bson.TypeArray {
			if must && ok {
				return array, nil
			}
			return expression.Missing, errUnchanged
		}
		at, ok := position(bson.Raw(original.Value))
		if !ok {
			if must {
				return array, &fault.Error{Code: 51246, Name: "Location51246", Message: "Executor error during find command :: caused by :: positional operator '." + path + ".$' couldn't find a matching element in the array"}
			}
			return expression.Missing, errUnchanged
		}
		return value.Array(value.Items(array)[at : at+1]), nil
	}})
}

// Apply returns what is to be seen of a document.
func (p *Projection) Apply(d bson.Raw, variables map[string]bson.RawValue) (bson.Raw, error) {
	if !p.include && len(p.named) == 0 && p.id && len(p.edits) == 0 {
		return d, nil
	}
	out := value.Begin(make([]byte, 0, len(d)))
	value.Elements(d, func(name string, v bson.RawValue) bool {
		if name == "_id" {
			if p.id {
				out = value.Append(out, name, v)
			}
			return true
		}
		if v, stays := p.one(p.named, name, v); stays {
			out = value.Append(out, name, v)
		}
		return true
	})
	projected := value.OfDocument(value.Finish(out))
	original := value.OfDocument(d)
	for _, e := range p.edits {
		v, err := e.make(original, projected, variables)
		if err == error(errUnchanged) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if projected = expression.Set(projected, e.path, v); e.path[0] == "_id" {
			projected = idFirst(projected)
		}
	}
	return bson.Raw(projected.Value), nil
}

// idFirst moves the _id to the beginning.
func idFirst(d bson.RawValue) bson.RawValue {
	id, ok := value.Member(d.Value, "_id")
	if !ok {
		return d
	}
	out := value.Append(value.Begin(nil), "_id", id)
	value.Elements(d.Value, func(name string, v bson.RawValue) bool {
		if name != "_id" {
			out = value.Append(out, name, v)
		}
		return true
	})
	return value.OfDocument(value.Finish(out))
}

// one returns what stays of a member, and whether anything does.
func (p *Projection) one(named tree, name string, v bson.RawValue) (bson.RawValue, bool) {
	branch, is := named[name]
	switch {
	case !is:
		return v, !p.include
	case len(branch) == 0:
		return v, p.include
	}
	return p.within(branch, v)
}

// within applies what is named below a member to its value: to a document, and to those
// in an array. Of other values nothing stays if only what is named does.
func (p *Projection) within(branch tree, v bson.RawValue) (bson.RawValue, bool) {
	out := value.Begin(make([]byte, 0, len(v.Value)))
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		value.Elements(v.Value, func(name string, m bson.RawValue) bool {
			if m, stays := p.one(branch, name, m); stays {
				out = value.Append(out, name, m)
			}
			return true
		})
	case bson.TypeArray:
		n := 0
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
			if e, stays := p.within(branch, e); stays {
				out = value.Append(out, strconv.Itoa(n), e)
				n++
			}
			return true
		})
	default:
		return v, !p.include
	}
	return bson.RawValue{Type: v.Type, Value: value.Finish(out)}, true
}
