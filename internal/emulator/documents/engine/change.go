package engine

import (
	"bytes"
	"context"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/update"
	"neighbour/internal/emulator/documents/value"
)

func parseUpdate(u Update) (*update.Update, error) {
	change, err := update.Parse(u.Update, u.Filters)
	if err == nil && change.Replaces() && u.Many {
		err = fault.FailedToParse("multi update is not supported for replacement-style update")
	}
	return change, err
}

// change changes one document.
func (w *Writer) change(ctx context.Context, c *collection, d stored, change *update.Update, f *query.Filter, done *Updated) error {
	now, err := change.Apply(d.document, update.About{Position: func(path []string) (int, bool) { return f.Position(d.document, path) }, Variables: f.Variables()})
	if err != nil {
		return err
	}
	done.Matched++
	done.Before, done.After = d.document, now
	if bytes.Equal(now, d.document) {
		return nil
	}
	done.Modified++
	id, _ := value.Member(now, "_id")
	return w.m.put(ctx, c, d, now, id, change.Replaces())
}

// upsert makes the document that a filter and an update describe.
func (w *Writer) upsert(ctx context.Context, s Space, change *update.Update, u Update, done *Updated) error {
	d, err := described(u.Filter, change.Replaces())
	if err != nil {
		return err
	}
	if d, err = change.Apply(d, update.About{Insert: true, Variables: u.Variables}); err != nil {
		return err
	}
	d, id, problem := withID(d)
	if problem != nil {
		return problem
	}
	c, err := w.m.collection(ctx, s, true)
	if err != nil {
		return err
	}
	done.Upserted, done.After = id, d
	return w.m.put(ctx, c, stored{}, d, id, false)
}

// described makes a document of the values that a filter asks for.
func described(filter bson.Raw, onlyID bool) (bson.Raw, error) {
	set := bson.D{}
	var collect func(filter []byte)
	collect = func(filter []byte) {
		value.Elements(filter, func(name string, v bson.RawValue) bool {
			switch {
			case name == "$and" && v.Type == bson.TypeArray:
				value.Elements(v.Value, func(_ string, part bson.RawValue) bool {
					collect(part.Value)
					return true
				})
				return true
			case strings.HasPrefix(name, "$") || v.Type == bson.TypeRegex || onlyID && name != "_id":
				return true
			case v.Type == bson.TypeEmbeddedDocument:
				if eq, is := value.Member(v.Value, "$eq"); is {
					v = eq
				}
				first := ""
				if v.Type == bson.TypeEmbeddedDocument {
					value.Elements(v.Value, func(name string, _ bson.RawValue) bool { first = name; return false })
				}
				if strings.HasPrefix(first, "$") {
					return true
				}
			}
			set = append(set, bson.E{Key: name, Value: v})
			return true
		})
	}
	if len(filter) > 0 {
		collect(filter)
	}
	u, err := update.Parse(value.Of(bson.D{{Key: "$set", Value: set}}), nil)
	if err != nil {
		return nil, err
	}
	return u.Apply(value.Document(), update.About{Insert: true})
}
