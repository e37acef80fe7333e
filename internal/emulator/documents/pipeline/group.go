package pipeline

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// field is a field of a group: an accumulator, and of what.
type field struct {
	name, accumulator string
	of                *expression.Expression
}

func fields(o Options, all []value.Named) (out []field, err error) {
	for _, m := range all {
		if strings.HasPrefix(m.Name, "$") || strings.Contains(m.Name, ".") || m.Name == "" {
			return nil, &fault.Error{Code: 40235, Name: "Location40235", Message: fmt.Sprintf("The field name '%s' cannot contain '.', begin with '$', or be empty", m.Name)}
		}
		if m.Value.Type != bson.TypeEmbeddedDocument || len(value.Members(m.Value.Value)) != 1 {
			return nil, &fault.Error{Code: 40234, Name: "Location40234", Message: "The field '" + m.Name + "' must be an accumulator object"}
		}
		of := value.Members(m.Value.Value)[0]
		if !slices.Contains(expression.Accumulators, of.Name) {
			return nil, &fault.Error{Code: 15952, Name: "Location15952", Message: "unknown group operator '" + of.Name + "', or one that is not here"}
		}
		e, err := expression.Parse(of.Value, o.Collation)
		if err != nil {
			return nil, err
		}
		out = append(out, field{m.Name, of.Name, e})
	}
	return out, nil
}

// gathered is a group.
type gathered struct {
	id  bson.RawValue
	all []expression.Accumulator
}

// gather adds documents to groups by their ids.
func gather(ctx context.Context, r *run, in Next, o Options, all []field, id func(bson.Raw) (bson.RawValue, error)) (groups []*gathered, err error) {
	byKey := map[string]*gathered{}
	for {
		d, err := in(ctx)
		if err != nil || d == nil {
			return groups, err
		}
		v, err := id(d)
		if err != nil {
			return nil, err
		}
		if v.Type == 0 {
			v = value.Null
		}
		key := string(o.Collation.Key(v))
		g := byKey[key]
		if g == nil {
			g = &gathered{id: v}
			for _, f := range all {
				g.all = append(g.all, expression.NewAccumulator(f.accumulator, o.Collation))
			}
			byKey[key] = g
			groups = append(groups, g)
			if err := r.hold(len(key) + len(v.Value) + 64*len(all)); err != nil {
				return nil, err
			}
		}
		for i, f := range all {
			v, err := f.of.Of(value.OfDocument(d), r.variables)
			if err != nil {
				return nil, err
			}
			if f.accumulator == "$push" || f.accumulator == "$addToSet" {
				if err := r.hold(len(v.Value)); err != nil {
					return nil, err
				}
			}
			if err := g.all[i].Add(v); err != nil {
				return nil, err
			}
		}
	}
}

func written(groups []*gathered, all []field) (out []bson.Raw) {
	for _, g := range groups {
		d := value.Append(value.Begin(nil), "_id", g.id)
		for i, f := range all {
			d = value.Append(d, f.name, g.all[i].Result())
		}
		out = append(out, value.Finish(d))
	}
	return out
}

func group(o Options, v bson.RawValue) (stage, error) {
	if err := document("$group", v); err != nil {
		return nil, err
	}
	by, ok := value.Member(v.Value, "_id")
	if !ok {
		return nil, &fault.Error{Code: 15955, Name: "Location15955", Message: "a group specification must include an _id"}
	}
	id, err := expression.Parse(by, o.Collation)
	if err != nil {
		return nil, err
	}
	all, err := fields(o, slices.DeleteFunc(value.Members(v.Value), func(m value.Named) bool { return m.Name == "_id" }))
	return func(r *run, in Next) Next {
		return later(func(ctx context.Context) ([]bson.Raw, error) {
			groups, err := gather(ctx, r, in, o, all, func(d bson.Raw) (bson.RawValue, error) { return id.Of(value.OfDocument(d), r.variables) })
			return written(groups, all), err
		})
	}, err
}

func sortByCount(o Options, v bson.RawValue) (stage, error) {
	grouped, err := group(o, value.Of(bson.D{{Key: "_id", Value: v}, {Key: "count", Value: bson.D{{Key: "$sum", Value: int32(1)}}}}))
	if err != nil {
		return nil, err
	}
	ordered, err := sorted(o, value.Of(bson.D{{Key: "count", Value: int32(-1)}}))
	return func(r *run, in Next) Next { return ordered(r, grouped(r, in)) }, err
}

// bucket groups by the boundaries between which a value is.
func bucket(o Options, v bson.RawValue) (stage, error) {
	if err := document("$bucket", v); err != nil {
		return nil, err
	}
	var by *expression.Expression
	var bounds []bson.RawValue
	or := expression.Missing
	output := []value.Named{{Name: "count", Value: value.Of(bson.D{{Key: "$sum", Value: int32(1)}})}}
	for _, m := range value.Members(v.Value) {
		var err error
		switch m.Name {
		case "groupBy":
			by, err = expression.Parse(m.Value, o.Collation)
		case "boundaries":
			if m.Value.Type == bson.TypeArray {
				bounds = value.Items(m.Value)
			}
		case "default":
			or = m.Value
		case "output":
			if err = document("output", m.Value); err == nil {
				output = value.Members(m.Value.Value)
			}
		default:
			err = &fault.Error{Code: 40197, Name: "Location40197", Message: "Unrecognized option to $bucket: " + m.Name}
		}
		if err != nil {
			return nil, err
		}
	}
	if by == nil || len(bounds) < 2 || !slices.IsSortedFunc(bounds, o.Collation.Compare) {
		return nil, &fault.Error{Code: 40198, Name: "Location40198", Message: "$bucket requires 'groupBy' and at least two 'boundaries' in ascending order"}
	}
	all, err := fields(o, output)
	return func(r *run, in Next) Next {
		return later(func(ctx context.Context) ([]bson.Raw, error) {
			groups, err := gather(ctx, r, in, o, all, func(d bson.Raw) (bson.RawValue, error) {
				v, err := by.Of(value.OfDocument(d), r.variables)
				if err != nil {
					return v, err
				}
				for i := range bounds[:len(bounds)-1] {
					if o.Collation.Compare(v, bounds[i]) >= 0 && o.Collation.Compare(v, bounds[i+1]) < 0 {
						return bounds[i], nil
					}
				}
				if or.Type == 0 {
					return v, &fault.Error{Code: 40066, Name: "Location40066", Message: "$bucket: " + value.String(v) + " is in none of the buckets, and no default was specified"}
				}
				return or, nil
			})
			slices.SortStableFunc(groups, func(a, b *gathered) int { return o.Collation.Compare(a.id, b.id) })
			return written(groups, all), err
		})
	}, err
}
