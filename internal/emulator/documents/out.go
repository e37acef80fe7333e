package documents

import (
	"context"
	"fmt"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/value"
)

func cutSpace(text string) (database, collection string, ok bool) { return strings.Cut(text, ".") }

// writeOut writes what a pipeline makes into a collection.
func (s *Server) writeOut(ctx context.Context, c *command, from engine.Space, out *pipeline.Out, next pipeline.Next) (bson.D, error) {
	if c.transaction != nil {
		return nil, &fault.Error{Code: 263, Name: "OperationNotSupportedInTransaction", Message: "$out and $merge cannot run in a transaction"}
	}
	to := engine.Space{Database: out.Database, Collection: out.Collection}
	if to.Database == "" {
		to.Database = from.Database
	}
	if out.Merge {
		return listed(from, nil), s.mergeInto(ctx, to, out, next)
	}
	return listed(from, nil), s.replaceBy(ctx, to, next)
}

// batches reads documents in lists of some megabytes.
func batches(ctx context.Context, next pipeline.Next, do func([]bson.Raw) error) error {
	for {
		var all []bson.Raw
		for size := 0; len(all) < 1000 && size < 8<<20; {
			d, err := next(ctx)
			if err != nil {
				return err
			}
			if d == nil {
				return do(all)
			}
			all = append(all, d)
			size += len(d)
		}
		if err := do(all); err != nil {
			return err
		}
	}
}

// replaceBy puts a collection of what a pipeline makes in another's place, wholly or not
// at all, with the indexes of that.
func (s *Server) replaceBy(ctx context.Context, to engine.Space, next pipeline.Next) (err error) {
	fresh := engine.Space{Database: to.Database, Collection: fmt.Sprintf("tmp.agg_out.%s", bson.NewObjectID().Hex())}
	if _, err := s.engine.Create(ctx, fresh); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_, _, _ = s.engine.Drop(context.WithoutCancel(ctx), fresh)
		}
	}()
	if indexes := s.engine.Indexes(to); len(indexes) > 1 {
		if _, _, _, err := s.engine.Index(ctx, fresh, indexes[1:]); err != nil {
			return err
		}
	}
	err = batches(ctx, next, func(all []bson.Raw) error {
		_, err := s.engine.Write(ctx, engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
			for _, d := range all {
				if err := w.Insert(ctx, fresh, d); err != nil {
					return nil, err
				}
			}
			return bson.D{}, nil
		})
		return err
	})
	if err != nil {
		return err
	}
	return s.engine.Rename(ctx, fresh, to, true)
}

// mergeInto writes each document over the one that it belongs to.
func (s *Server) mergeInto(ctx context.Context, to engine.Space, out *pipeline.Out, next pipeline.Next) error {
	if err := s.uniqueOn(to, out.On); err != nil {
		return err
	}
	return batches(ctx, next, func(all []bson.Raw) error {
		_, err := s.engine.Write(ctx, engine.Retry{}, func(w *engine.Writer) (bson.D, error) {
			for _, d := range all {
				if err := mergeOne(ctx, w, to, out, d); err != nil {
					return nil, err
				}
			}
			return bson.D{}, nil
		})
		return err
	})
}

// uniqueOn makes sure that no two documents have the same at the paths of a merge.
func (s *Server) uniqueOn(to engine.Space, on []string) error {
	if len(on) == 1 && on[0] == "_id" {
		return nil
	}
	for _, spec := range s.engine.Indexes(to) {
		key, _ := value.Member(spec, "key")
		unique, _ := value.Member(spec, "unique")
		same := len(value.Members(key.Value)) == len(on)
		for _, name := range on {
			_, has := value.Member(key.Value, name)
			same = same && has
		}
		if same && expression.Truth(unique) {
			return nil
		}
	}
	return &fault.Error{Code: 51183, Name: "Location51183", Message: "Cannot find index to verify that join fields will be unique"}
}

func mergeOne(ctx context.Context, w *engine.Writer, to engine.Space, out *pipeline.Out, d bson.Raw) error {
	var by []value.Named
	for _, name := range out.On {
		v, ok := value.Lookup(value.OfDocument(d), strings.Split(name, "."))
		if !ok && name == "_id" {
			return w.Insert(ctx, to, d)
		}
		if !ok || v.Type == bson.TypeNull || v.Type == bson.TypeArray {
			return &fault.Error{Code: 51132, Name: "Location51132", Message: "$merge write error: 'on' field '" + name + "' cannot be missing, null, undefined or an array"}
		}
		by = append(by, value.Named{Name: name, Value: value.OfDocument(value.Document(value.Named{Name: "$eq", Value: v}))})
	}
	u := engine.Update{Find: engine.Find{Filter: value.Document(by...)}}
	switch out.Matched {
	case "replace":
		u.Update = value.OfDocument(d)
	default:
		var set []value.Named
		for _, m := range value.Members(d) {
			if m.Name != "_id" {
				set = append(set, m)
			}
		}
		u.Update = value.OfDocument(value.Document(value.Named{Name: "$set", Value: value.OfDocument(value.Document(set...))}))
		if out.Matched != "merge" || len(set) == 0 { // it only looks whether there is one
			u.Update = value.OfDocument(value.Document(value.Named{Name: "$setOnInsert", Value: value.OfDocument(value.Document(value.Named{Name: "_", Value: value.Null}))}))
		}
	}
	done, err := w.Update(ctx, to, u)
	switch {
	case err != nil:
		return err
	case done.Matched > 0 && out.Matched == "fail":
		return &fault.Error{Code: 11000, Name: "DuplicateKey", Message: "$merge found a document that is there already, and was told to fail then"}
	case done.Matched > 0 || out.Unmatched == "discard":
		return nil
	case out.Unmatched == "fail":
		return &fault.Error{Code: 13113, Name: "MergeStageNoMatchingDocument", Message: "$merge could not find a matching document in the target collection for at least one document in the source collection"}
	}
	return w.Insert(ctx, to, d)
}
