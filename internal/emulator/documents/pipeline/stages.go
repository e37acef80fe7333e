package pipeline

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

func init() {
	stages = map[string]func(Options, bson.RawValue) (stage, error){
		"$match": match, "$project": project, "$addFields": addFields, "$set": addFields, "$unset": unset, "$sort": sorted, "$limit": limit, "$skip": skip,
		"$unwind": unwind, "$group": group, "$count": count, "$sortByCount": sortByCount, "$sample": sample, "$replaceRoot": replaceRoot, "$replaceWith": replaceRoot,
		"$lookup": lookup, "$facet": facet, "$bucket": bucket,
	}
}

func document(stage string, v bson.RawValue) error {
	if v.Type != bson.TypeEmbeddedDocument {
		return &fault.Error{Code: 15959, Name: "Location15959", Message: fmt.Sprintf("the %s specification must be an object", stage)}
	}
	return nil
}

func match(o Options, v bson.RawValue) (stage, error) {
	if err := document("$match", v); err != nil {
		return nil, err
	}
	// With the variables that there are now, which an outer $lookup may have bound.
	if _, err := query.ParseWith(v.Value, query.Options{Collation: o.Collation, Text: o.Text}); err != nil {
		return nil, err
	}
	return func(r *run, in Next) Next {
		f, err := query.ParseWith(v.Value, query.Options{Collation: o.Collation, Text: o.Text, Variables: r.variables})
		return each(in, func(d bson.Raw) (bson.Raw, error) {
			if err != nil {
				return nil, err
			}
			if f.Matches(d) {
				return d, nil
			}
			return nil, f.Err()
		})
	}, nil
}

func project(o Options, v bson.RawValue) (stage, error) {
	if err := document("$project", v); err != nil {
		return nil, err
	}
	if len(v.Value) == 5 {
		return nil, &fault.Error{Code: 51272, Name: "Location51272", Message: "Invalid $project :: caused by :: projection specification must have at least one field"}
	}
	p, err := projection.Parse(v.Value, projection.Options{Pipeline: true, Collation: o.Collation})
	return func(r *run, in Next) Next {
		return each(in, func(d bson.Raw) (bson.Raw, error) { return p.Apply(d, r.variables) })
	}, err
}

// addFields sets values at paths, of which documents in the stage are the branches.
func addFields(o Options, v bson.RawValue) (stage, error) {
	if err := document("$addFields", v); err != nil {
		return nil, err
	}
	type one struct {
		path []string
		e    *expression.Expression
	}
	var all []one
	var read func(before string, v bson.RawValue) error
	read = func(before string, v bson.RawValue) error {
		for _, m := range value.Members(v.Value) {
			path := before + m.Name
			if m.Value.Type == bson.TypeEmbeddedDocument && len(m.Value.Value) > 5 && !strings.HasPrefix(value.Members(m.Value.Value)[0].Name, "$") {
				if err := read(path+".", m.Value); err != nil {
					return err
				}
				continue
			}
			parts := strings.Split(path, ".")
			if slices.ContainsFunc(parts, func(part string) bool { return part == "" || strings.HasPrefix(part, "$") }) {
				return &fault.Error{Code: 16410, Name: "Location16410", Message: "FieldPath field names may not start with '$' or be empty: " + path}
			}
			e, err := expression.Parse(m.Value, o.Collation)
			if err != nil {
				return err
			}
			all = append(all, one{parts, e})
		}
		return nil
	}
	err := read("", v)
	return func(r *run, in Next) Next {
		return each(in, func(d bson.Raw) (bson.Raw, error) {
			was := value.OfDocument(d)
			now := was
			for _, a := range all {
				v, err := a.e.Of(was, r.variables)
				if err != nil {
					return nil, err
				}
				now = expression.Set(now, a.path, v)
			}
			return bson.Raw(now.Value), nil
		})
	}, err
}

func unset(_ Options, v bson.RawValue) (stage, error) {
	names := []bson.RawValue{v}
	if v.Type == bson.TypeArray {
		names = value.Items(v)
	}
	var all []value.Named
	for _, name := range names {
		text, ok := name.StringValueOK()
		if !ok {
			return nil, &fault.Error{Code: 31002, Name: "Location31002", Message: "$unset specification must be a string or an array containing only string values"}
		}
		all = append(all, value.Named{Name: text, Value: value.Of(int32(0))})
	}
	return project(Options{}, value.OfDocument(value.Document(all...)))
}

// sortKeys reads what a $sort sorts by, and returns what makes a key that stands in its
// order.
func sortKeys(o Options, v bson.RawValue) (func(bson.Raw) []byte, error) {
	if err := document("$sort", v); err != nil {
		return nil, err
	}
	by, err := query.ParseSort(v.Value)
	if err != nil {
		return nil, err
	}
	if len(by) == 0 {
		return nil, &fault.Error{Code: 15976, Name: "Location15976", Message: "$sort stage must have at least one sort key"}
	}
	return func(d bson.Raw) []byte { return by.Key(d, o.Collation) }, nil
}

func sorted(o Options, v bson.RawValue) (stage, error) {
	key, err := sortKeys(o, v)
	return func(r *run, in Next) Next {
		return later(func(ctx context.Context) ([]bson.Raw, error) {
			all, err := collect(ctx, r, in)
			if err != nil {
				return nil, err
			}
			type keyed struct {
				key []byte
				d   bson.Raw
			}
			list := make([]keyed, len(all))
			for i, d := range all {
				list[i] = keyed{key(d), d}
			}
			slices.SortStableFunc(list, func(a, b keyed) int { return bytes.Compare(a.key, b.key) })
			for i, k := range list {
				all[i] = k.d
			}
			return all, nil
		})
	}, err
}

func number(stage string, v bson.RawValue, least int64) (int64, error) {
	n, ok := value.Integer(v)
	if !ok || n < least {
		return 0, &fault.Error{Code: 15957, Name: "Location15957", Message: fmt.Sprintf("the %s must be a whole number of at least %d: %s", stage, least, value.String(v))}
	}
	return n, nil
}

func limit(_ Options, v bson.RawValue) (stage, error) {
	n, err := number("$limit", v, 1)
	return func(_ *run, in Next) Next {
		left := n
		return func(ctx context.Context) (bson.Raw, error) {
			if left == 0 {
				return nil, nil
			}
			left--
			return in(ctx)
		}
	}, err
}

func skip(_ Options, v bson.RawValue) (stage, error) {
	n, err := number("$skip", v, 0)
	return func(_ *run, in Next) Next {
		left := n
		return each(in, func(d bson.Raw) (bson.Raw, error) {
			if left > 0 {
				left--
				return nil, nil
			}
			return d, nil
		})
	}, err
}

func sample(_ Options, v bson.RawValue) (stage, error) {
	if err := document("$sample", v); err != nil {
		return nil, err
	}
	size, _ := value.Member(v.Value, "size")
	n, err := number("size of $sample", size, 1)
	return func(r *run, in Next) Next {
		return later(func(ctx context.Context) (kept []bson.Raw, err error) {
			for seen := int64(1); ; seen++ {
				d, err := in(ctx)
				if err != nil || d == nil {
					rand.Shuffle(len(kept), func(i, j int) { kept[i], kept[j] = kept[j], kept[i] })
					return kept, err
				}
				if int64(len(kept)) < n {
					if err := r.hold(len(d)); err != nil {
						return nil, err
					}
					kept = append(kept, d)
				} else if i := rand.Int64N(seen); i < n {
					kept[i] = d
				}
			}
		})
	}, err
}

func unwind(_ Options, v bson.RawValue) (stage, error) {
	text, ok := v.StringValueOK()
	index, keep := "", false
	if v.Type == bson.TypeEmbeddedDocument {
		for _, m := range value.Members(v.Value) {
			switch m.Name {
			case "path":
				text, ok = m.Value.StringValueOK()
			case "includeArrayIndex":
				index, _ = m.Value.StringValueOK()
			case "preserveNullAndEmptyArrays":
				keep = expression.Truth(m.Value)
			default:
				return nil, &fault.Error{Code: 28811, Name: "Location28811", Message: "unrecognized option to $unwind stage: " + m.Name}
			}
		}
	}
	if !ok || len(text) < 2 || text[0] != '$' || strings.HasPrefix(index, "$") {
		return nil, &fault.Error{Code: 28818, Name: "Location28818", Message: "path option to $unwind stage should be prefixed with a '$': " + value.String(v)}
	}
	path := strings.Split(text[1:], ".")
	return func(_ *run, in Next) Next {
		var pending Next
		return func(ctx context.Context) (bson.Raw, error) {
			for {
				if pending != nil {
					if d, _ := pending(ctx); d != nil {
						return d, nil
					}
				}
				d, err := in(ctx)
				if err != nil || d == nil {
					return nil, err
				}
				pending = From(unwound(d, path, index, keep))
			}
		}
	}, nil
}

func unwound(d bson.Raw, path []string, index string, keep bool) (out []bson.Raw) {
	whole := value.OfDocument(d)
	v, found := documentsOnly(whole, path)
	add := func(v bson.RawValue, at bson.RawValue) {
		one := expression.Set(whole, path, v)
		if index != "" {
			one = expression.Set(one, strings.Split(index, "."), at)
		}
		out = append(out, bson.Raw(one.Value))
	}
	switch {
	case found && v.Type == bson.TypeArray:
		all := value.Items(v)
		for i, e := range all {
			add(e, value.Of(int64(i)))
		}
		if len(all) == 0 && keep {
			add(expression.Missing, value.Null)
		}
	case found && value.ClassOf(v.Type) != value.ClassNull:
		add(v, value.Null)
	case keep:
		one := whole
		if index != "" {
			one = expression.Set(one, strings.Split(index, "."), value.Null)
		}
		out = append(out, bson.Raw(one.Value))
	}
	return out
}

// documentsOnly follows a path through documents, and through no array.
func documentsOnly(v bson.RawValue, path []string) (bson.RawValue, bool) {
	for _, part := range path {
		if v.Type != bson.TypeEmbeddedDocument {
			return v, false
		}
		var ok bool
		if v, ok = value.Member(v.Value, part); !ok {
			return v, false
		}
	}
	return v, true
}

func count(_ Options, v bson.RawValue) (stage, error) {
	name, ok := v.StringValueOK()
	if !ok || name == "" || strings.HasPrefix(name, "$") || strings.Contains(name, ".") {
		return nil, &fault.Error{Code: 40156, Name: "Location40156", Message: "the count field must be a non-empty string without $ and ."}
	}
	return func(_ *run, in Next) Next {
		return later(func(ctx context.Context) ([]bson.Raw, error) {
			n := int64(0)
			for {
				d, err := in(ctx)
				if err != nil {
					return nil, err
				}
				if d == nil {
					break
				}
				n++
			}
			if n == 0 {
				return nil, nil
			}
			size := value.Of(n)
			if n < 1<<31 {
				size = value.Of(int32(n))
			}
			return []bson.Raw{value.Document(value.Named{Name: name, Value: size})}, nil
		})
	}, nil
}

func replaceRoot(o Options, v bson.RawValue) (stage, error) {
	if v.Type == bson.TypeEmbeddedDocument {
		if m := value.Members(v.Value); len(m) == 1 && m[0].Name == "newRoot" {
			v = m[0].Value
		}
	}
	e, err := expression.Parse(v, o.Collation)
	return func(r *run, in Next) Next {
		return each(in, func(d bson.Raw) (bson.Raw, error) {
			v, err := e.Of(value.OfDocument(d), r.variables)
			if err == nil && v.Type != bson.TypeEmbeddedDocument {
				err = &fault.Error{Code: 40228, Name: "Location40228", Message: "'newRoot' expression must evaluate to an object, but resulting value was: " + value.String(v)}
			}
			return bson.Raw(v.Value), err
		})
	}, err
}

func facet(o Options, v bson.RawValue) (stage, error) {
	if err := document("$facet", v); err != nil {
		return nil, err
	}
	o.inside = "$facet"
	var names []string
	var parts []*Pipeline
	for _, m := range value.Members(v.Value) {
		p, err := subPipeline(o, m.Value)
		if err != nil {
			return nil, err
		}
		names, parts = append(names, m.Name), append(parts, p)
	}
	return func(r *run, in Next) Next {
		return later(func(ctx context.Context) ([]bson.Raw, error) {
			all, err := collect(ctx, r, in)
			if err != nil {
				return nil, err
			}
			out := value.Begin(nil)
			for i, p := range parts {
				next, err := p.whole(r, From(all))
				if err != nil {
					return nil, err
				}
				made, err := collect(ctx, r, next)
				if err != nil {
					return nil, err
				}
				out = value.Append(out, names[i], documents(made))
			}
			return []bson.Raw{value.Finish(out)}, nil
		})
	}, nil
}

func documents(all []bson.Raw) bson.RawValue {
	var out []bson.RawValue
	for _, d := range all {
		out = append(out, value.OfDocument(d))
	}
	return value.Array(out)
}

// subPipeline reads a pipeline inside of a stage.
func subPipeline(o Options, v bson.RawValue) (*Pipeline, error) {
	if v.Type != bson.TypeArray {
		return nil, fault.TypeMismatch("a pipeline must be an array, and is %s", value.Name(v.Type))
	}
	var all []bson.Raw
	for _, e := range value.Items(v) {
		if e.Type != bson.TypeEmbeddedDocument {
			return nil, fault.TypeMismatch("Each element of the 'pipeline' array must be an object")
		}
		all = append(all, bson.Raw(e.Value))
	}
	return Parse(all, o)
}
