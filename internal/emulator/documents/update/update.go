// Package update changes documents as updates say. Its operators are those of the
// protocol's documentation ("Update Operators"); one that isn't here is an error that
// names it.
package update

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// Update is an update that has been read.
type Update struct {
	replacement bson.Raw // nil if there are operators
	pipeline    []bson.Raw
	parts       []part
	filters     map[string]*query.Filter // by identifier
}

// part is one operator for one path.
type part struct {
	operator string
	path     []string
	do       edit
	create   bool // what is missing on the way is made
	insert   bool // only when a document is inserted
	to       []string
}

// Parse reads an update, and the filters that its paths name as $[identifier]. Its
// errors are of the type *fault.Error.
func Parse(update bson.RawValue, arrayFilters []bson.Raw) (*Update, error) {
	switch {
	case update.Type == bson.TypeArray:
		return parsePipeline(update, arrayFilters)
	case update.Type != bson.TypeEmbeddedDocument:
		return nil, fault.FailedToParse("the update must be a document or an array")
	}
	if err := value.Validate(update.Value); err != nil {
		return nil, fault.FailedToParse("the update is no valid document: %v", err)
	}
	all := value.Members(update.Value)
	u := &Update{filters: map[string]*query.Filter{}}
	if len(all) == 0 || !strings.HasPrefix(all[0].Name, "$") {
		for _, m := range all {
			if strings.HasPrefix(m.Name, "$") {
				return nil, &fault.Error{Code: 52, Name: "DollarPrefixedFieldName", Message: fmt.Sprintf("The dollar ($) prefixed field '%s' in '%s' is not allowed in the context of an update's replacement document.", m.Name, m.Name)}
			}
		}
		if len(arrayFilters) > 0 {
			return nil, fault.FailedToParse("arrayFilters may not be specified for a replacement")
		}
		u.replacement = update.Value
		return u, nil
	}
	if err := u.readFilters(arrayFilters); err != nil {
		return nil, err
	}
	for _, m := range all {
		if err := u.readOperator(m); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(u.parts, func(a, b part) int { return slices.CompareFunc(a.path, b.path, compareParts) })
	return u, u.check()
}

// parsePipeline reads an update by the stages of a pipeline that change a document.
func parsePipeline(update bson.RawValue, arrayFilters []bson.Raw) (*Update, error) {
	if len(arrayFilters) > 0 {
		return nil, fault.FailedToParse("arrayFilters may not be specified for pipeline-syle updates")
	}
	u := &Update{pipeline: []bson.Raw{}}
	for _, stage := range value.Items(update) {
		if stage.Type != bson.TypeEmbeddedDocument {
			return nil, fault.TypeMismatch("each stage of an update must be an object")
		}
		u.pipeline = append(u.pipeline, bson.Raw(stage.Value))
	}
	p, err := pipeline.Parse(u.pipeline, pipeline.Options{})
	if err != nil {
		return nil, err
	}
	return u, p.Only(u.pipeline, "$set", "$addFields", "$unset", "$project", "$replaceRoot", "$replaceWith")
}

// piped runs the pipeline on a document.
func (u *Update) piped(v bson.RawValue, about About) (bson.RawValue, error) {
	p, err := pipeline.Parse(u.pipeline, pipeline.Options{Variables: about.Variables})
	if err != nil {
		return v, err
	}
	next, err := p.Whole(pipeline.From([]bson.Raw{bson.Raw(v.Value)}), nil)
	if err != nil {
		return v, err
	}
	d, err := next(context.Background())
	if err != nil {
		return v, err
	}
	// The _id stays, whatever the stages name.
	if id, ok := value.Member(v.Value, "_id"); ok {
		if _, has := value.Member(d, "_id"); !has {
			d = value.Document(append([]value.Named{{Name: "_id", Value: id}}, value.Members(d)...)...)
		}
	}
	return value.OfDocument(d), nil
}

// Replaces reports whether the update is a document that takes another's place.
func (u *Update) Replaces() bool { return u.replacement != nil }

// compareParts orders parts of paths: numbers by what they are.
func compareParts(a, b string) int {
	x, xErr := strconv.Atoi(a)
	y, yErr := strconv.Atoi(b)
	if xErr == nil && yErr == nil {
		return cmp.Compare(x, y)
	}
	return cmp.Compare(a, b)
}

func (u *Update) readFilters(filters []bson.Raw) error {
	for _, f := range filters {
		if err := value.Validate(f); err != nil {
			return fault.FailedToParse("an array filter is no valid document: %v", err)
		}
		identifier := ""
		for _, m := range value.Members(f) {
			name, _, _ := strings.Cut(m.Name, ".")
			if strings.HasPrefix(name, "$") {
				return fault.NotImplemented("%s at the top of an array filter is not here", name)
			}
			if identifier != "" && name != identifier {
				return fault.FailedToParse("Error parsing array filter :: caused by :: Expected a single top-level field name, found '%s' and '%s'", identifier, name)
			}
			identifier = name
		}
		switch {
		case identifier == "":
			return fault.FailedToParse("Cannot use an expression without a top-level field name in arrayFilters")
		case u.filters[identifier] != nil:
			return fault.FailedToParse("Found multiple array filters with the same top-level field name %s", identifier)
		}
		parsed, err := query.Parse(f)
		if err != nil {
			return err
		}
		u.filters[identifier] = parsed
	}
	return nil
}

func (u *Update) readOperator(m value.Named) error {
	read := operators[m.Name]
	switch {
	case read == nil:
		return fault.FailedToParse("Unknown modifier: %s. Expected a valid update modifier or pipeline-style update specified as an array", m.Name)
	case m.Value.Type != bson.TypeEmbeddedDocument:
		return fault.FailedToParse("Modifiers operate on fields but we found type %s instead. For example: {$mod: {<field>: ...}} not {%s: %s}", value.Name(m.Value.Type), m.Name, value.String(m.Value))
	}
	for _, of := range value.Members(m.Value.Value) {
		p := part{operator: m.Name, path: strings.Split(of.Name, ".")}
		if slices.Contains(p.path, "") {
			return &fault.Error{Code: 56, Name: "EmptyFieldName", Message: fmt.Sprintf("The update path '%s' contains an empty field name, which is not allowed.", of.Name)}
		}
		if i := slices.Index(p.path, "$"); i >= 0 && slices.Contains(p.path[i+1:], "$") {
			return fault.BadValue("Too many positional (i.e. '$') elements found in path '%s'", of.Name)
		}
		if strings.HasPrefix(p.path[0], "$") {
			return &fault.Error{Code: 52, Name: "DollarPrefixedFieldName", Message: fmt.Sprintf("The dollar ($) prefixed field '%s' is not valid for storage.", of.Name)}
		}
		if err := read(&p, of.Value); err != nil {
			return err
		}
		u.parts = append(u.parts, p)
	}
	return nil
}

// check makes sure that no two parts change the same, and that all filters are used.
func (u *Update) check() error {
	var paths [][]string
	for _, p := range u.parts {
		paths = append(paths, p.path)
		if p.to != nil {
			paths = append(paths, p.to)
		}
	}
	for i, p := range paths {
		for _, o := range paths[:i] {
			n := min(len(p), len(o))
			if slices.Equal(p[:n], o[:n]) {
				return &fault.Error{Code: 40, Name: "ConflictingUpdateOperators", Message: fmt.Sprintf("Updating the path '%s' would create a conflict at '%s'", strings.Join(p, "."), strings.Join(p[:n], "."))}
			}
		}
	}
	used := map[string]bool{}
	for _, p := range paths {
		for _, name := range p {
			id, is := identifier(name)
			if is && id != "" && u.filters[id] == nil {
				return fault.BadValue("No array filter found for identifier '%s' in path '%s'", id, strings.Join(p, "."))
			}
			used[id] = true
		}
	}
	for id := range u.filters {
		if !used[id] {
			return fault.FailedToParse("The array filter for identifier '%s' was not used in the update", id)
		}
	}
	return nil
}

// identifier returns what stands in $[…].
func identifier(part string) (string, bool) {
	if strings.HasPrefix(part, "$[") && strings.HasSuffix(part, "]") {
		return part[2 : len(part)-1], true
	}
	return "", false
}

// About is what an update may have to know of how its document was found.
type About struct {
	// Insert says that the document is about to be inserted, since none was found.
	Insert bool
	// Position returns the number of the element in an array because of which the
	// document was found. It may be nil.
	Position func(path []string) (int, bool)
	// Variables are those that a pipeline's expressions can name.
	Variables map[string]bson.RawValue
}

// Apply returns the document that an update makes of one.
func (u *Update) Apply(document bson.Raw, about About) (bson.Raw, error) {
	id, hasID := value.Member(document, "_id")
	v := bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: document}
	var err error
	switch {
	case u.replacement != nil:
		v, err = u.replace(id, hasID)
	case u.pipeline != nil:
		v, err = u.piped(v, about)
	default:
		v, err = u.apply(v, about)
	}
	if err != nil {
		return nil, err
	}
	if now, has := value.Member(v.Value, "_id"); hasID && (!has || !value.Equal(now, id)) {
		return nil, &fault.Error{Code: 66, Name: "ImmutableField", Message: "Performing an update on the path '_id' would modify the immutable field '_id'"}
	}
	if len(v.Value) > value.MostBytes {
		return nil, &fault.Error{Code: 17419, Name: "Location17419", Message: fmt.Sprintf("Resulting document after update is larger than %d", value.MostBytes)}
	}
	if err := value.Validate(v.Value); err != nil {
		return nil, fault.BadValue("the document that the update makes is not valid: %v", err)
	}
	return bson.Raw(v.Value), nil
}

// replace puts the _id of the document before the members of its replacement.
func (u *Update) replace(id bson.RawValue, hasID bool) (bson.RawValue, error) {
	v := bson.RawValue{Type: bson.TypeEmbeddedDocument, Value: u.replacement}
	if !hasID {
		return v, nil
	}
	all := []value.Named{{Name: "_id", Value: id}}
	for _, m := range value.Members(v.Value) {
		if m.Name != "_id" {
			all = append(all, m)
		} else if !value.Equal(m.Value, id) {
			return v, &fault.Error{Code: 66, Name: "ImmutableField", Message: "After applying the update, the (immutable) field '_id' was found to have been altered"}
		}
	}
	return value.Assemble(v.Type, all), nil
}

// placed is a path with the number of an element for the operator $.
func (a About) placed(path []string) ([]string, error) {
	i := slices.Index(path, "$")
	if i < 0 {
		return path, nil
	}
	n, ok := 0, false
	if a.Position != nil {
		n, ok = a.Position(path[:i])
	}
	if !ok {
		return nil, fault.BadValue("The positional operator did not find the match needed from the query.")
	}
	path = slices.Clone(path)
	path[i] = strconv.Itoa(n)
	return path, nil
}

func (u *Update) apply(v bson.RawValue, about About) (bson.RawValue, error) {
	for _, p := range u.parts {
		if p.insert && !about.Insert {
			continue
		}
		path, err := about.placed(p.path)
		if err != nil {
			return v, err
		}
		paths, err := u.expand(v, nil, path, path)
		if err != nil {
			return v, err
		}
		for _, path := range paths {
			if p.to != nil {
				v, err = rename(v, path, p.to)
			} else {
				v, err = change(v, path, p.create, p.do)
			}
			if err != nil {
				return v, err
			}
		}
	}
	return v, nil
}

// expand returns the paths to the elements that $[] and $[identifier] mean.
func (u *Update) expand(v bson.RawValue, before, path, whole []string) ([][]string, error) {
	at := slices.IndexFunc(path, func(part string) bool { _, is := identifier(part); return is })
	if at < 0 {
		return [][]string{append(slices.Clone(before), path...)}, nil
	}
	before = append(slices.Clone(before), path[:at]...)
	list, ok := value.Lookup(v, before)
	switch {
	case !ok:
		return nil, fault.BadValue("The path '%s' must exist in the document in order to apply array updates.", strings.Join(before, "."))
	case list.Type != bson.TypeArray:
		return nil, fault.BadValue("Cannot apply array updates to non-array element %s: %s", strings.Join(before, "."), value.String(list))
	}
	id, _ := identifier(path[at])
	var out [][]string
	for i, e := range value.Members(list.Value) {
		if id != "" && !u.filters[id].Matches(bson.Raw(value.Assemble(bson.TypeEmbeddedDocument, []value.Named{{Name: id, Value: e.Value}}).Value)) {
			continue
		}
		more, err := u.expand(v, append(slices.Clone(before), strconv.Itoa(i)), path[at+1:], whole)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

// rename moves a value. What is in an array can't be moved, and nothing into one.
func rename(v bson.RawValue, from, to []string) (bson.RawValue, error) {
	for _, path := range [][]string{from, to} {
		for n := range path {
			if on, ok := value.Lookup(v, path[:n]); ok && on.Type == bson.TypeArray {
				return v, fault.BadValue("The path '%s' of $rename leads through an array", strings.Join(path, "."))
			}
		}
	}
	moved, ok := value.Lookup(v, from)
	if !ok {
		return v, nil
	}
	v, err := change(v, from, false, func(bson.RawValue, bool) (bson.RawValue, bool, error) { return bson.RawValue{}, false, nil })
	if err != nil {
		return v, err
	}
	return change(v, to, true, func(bson.RawValue, bool) (bson.RawValue, bool, error) { return moved, true, nil })
}
