package pipeline

import (
	"context"
	"maps"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// joined is what a $lookup says.
type joined struct {
	from, local, foreign, as string
	names                    []string // of variables
	values                   []*expression.Expression
	inner                    *Pipeline
}

func lookup(o Options, v bson.RawValue) (stage, error) {
	if err := document("$lookup", v); err != nil {
		return nil, err
	}
	var j joined
	o.inside = "$lookup"
	for _, m := range value.Members(v.Value) {
		text, isText := m.Value.StringValueOK()
		var err error
		switch {
		case m.Name == "from" && isText:
			j.from = text
		case m.Name == "localField" && isText:
			j.local = text
		case m.Name == "foreignField" && isText:
			j.foreign = text
		case m.Name == "as" && isText:
			j.as = text
		case m.Name == "pipeline":
			j.inner, err = subPipeline(o, m.Value)
		case m.Name == "let" && m.Value.Type == bson.TypeEmbeddedDocument:
			for _, bound := range value.Members(m.Value.Value) {
				e, problem := expression.Parse(bound.Value, o.Collation)
				if problem != nil {
					return nil, problem
				}
				j.names, j.values = append(j.names, bound.Name), append(j.values, e)
			}
		case m.Name == "from":
			err = fault.NotImplemented("a $lookup from another database is not here")
		default:
			err = fault.FailedToParse("unknown argument to $lookup: %s", m.Name)
		}
		if err != nil {
			return nil, err
		}
	}
	if j.from == "" || j.as == "" || (j.local == "") != (j.foreign == "") || j.local == "" && j.inner == nil {
		return nil, fault.FailedToParse("$lookup needs from, as, and localField with foreignField, or a pipeline")
	}
	if j.inner == nil {
		j.inner = &Pipeline{}
	}
	return func(r *run, in Next) Next {
		return func(ctx context.Context) (bson.Raw, error) {
			d, err := in(ctx)
			if err != nil || d == nil {
				return nil, err
			}
			found, err := j.find(ctx, r, d)
			if err != nil {
				return nil, err
			}
			return bson.Raw(expression.Set(value.OfDocument(d), strings.Split(j.as, "."), documents(found)).Value), nil
		}
	}, nil
}

// find returns the documents that belong to one.
func (j *joined) find(ctx context.Context, r *run, d bson.Raw) ([]bson.Raw, error) {
	inner := *r
	if len(j.names) > 0 {
		inner.variables = maps.Clone(r.variables)
		if inner.variables == nil {
			inner.variables = map[string]bson.RawValue{}
		}
		for i, e := range j.values {
			v, err := e.Of(value.OfDocument(d), r.variables)
			if err != nil {
				return nil, err
			}
			inner.variables[j.names[i]] = v
		}
	}
	filter := value.Document()
	if j.local != "" {
		filter = j.filter(d)
	}
	next, err := r.source.Find(ctx, j.from, filter)
	if err != nil {
		return nil, err
	}
	if next, err = j.inner.whole(&inner, next); err != nil {
		return nil, err
	}
	// What is held for one document is let go for the next.
	held := *r.memory
	inner.memory = &held
	return collect(ctx, &inner, next)
}

// filter means the documents whose foreign field has one of the local field's values;
// what isn't there is null.
func (j *joined) filter(d bson.Raw) bson.Raw {
	var wanted []bson.RawValue
	regex := false
	query.At(d, strings.Split(j.local, "."), func(v bson.RawValue, found bool) {
		switch {
		case !found:
			v = value.Null
		case v.Type == bson.TypeArray:
			wanted = append(wanted, value.Items(v)...)
			return
		}
		wanted = append(wanted, v)
	})
	for _, v := range wanted {
		regex = regex || v.Type == bson.TypeRegex
	}
	if !regex {
		return value.Document(value.Named{Name: j.foreign, Value: value.OfDocument(value.Document(value.Named{Name: "$in", Value: value.Array(wanted)}))})
	}
	var any []bson.RawValue // in $in an expression would be looked for in texts
	for _, v := range wanted {
		any = append(any, value.OfDocument(value.Document(value.Named{Name: j.foreign, Value: value.OfDocument(value.Document(value.Named{Name: "$eq", Value: v}))})))
	}
	return value.Document(value.Named{Name: "$or", Value: value.Array(any)})
}
