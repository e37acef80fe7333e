package documents

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"neighbour/internal/core/kind"
	"neighbour/internal/emulator/documents"
)

// CheckMask says what is wrong with a rule, which names a field of a collection.
func (Kind) CheckMask(rule string) error {
	_, _, err := fieldRule(rule)
	return err
}

// fieldRule takes a rule apart: the collection comes first, then the path of the field.
func fieldRule(rule string) (collection, path string, err error) {
	collection, path, ok := strings.Cut(rule, ".")
	if !ok || collection == "" || path == "" || strings.HasPrefix(path, "$") || strings.Contains(path, "..") || strings.HasSuffix(path, ".") || path == "_id" {
		return "", "", fmt.Errorf("%q names no field of a collection; write for example \"members.email\", or \"members.address.street\"", rule)
	}
	return collection, path, nil
}

// Mask takes fields out of documents, in all databases that have the collection, also out of those
// that stand in arrays.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	c, err := connect(in)
	if err != nil {
		return nil, err
	}
	s := &source{c: c, own: database(in)}
	defer s.Close()
	names, err := c.ListDatabaseNames(ctx, bson.D{})
	if err != nil {
		return nil, explain(err)
	}
	for _, rule := range rules {
		collection, path, err := fieldRule(rule)
		if err != nil {
			return nil, err
		}
		met := false
		found := map[string]int{}
		for _, name := range names {
			did, err := takeOut(ctx, c.Database(name).Collection(collection), strings.Split(path, "."), found)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", rule, explain(err))
			}
			met = met || did
		}
		if !met {
			return nil, fmt.Errorf("%q names nothing: no document has such a field", rule)
		}
		n := 0
		for text, times := range found {
			if times == 1 && n < kind.SampleSize {
				sample, n = append(sample, text), n+1
			}
		}
	}
	return sample, nil
}

// mostFound is how many values of a field are remembered, to know which one document alone has.
const mostFound = 10_000

// takeOut takes a field out of all documents of a collection, and counts the texts that it held. It
// reports whether any had it.
func takeOut(ctx context.Context, c *mongo.Collection, path []string, found map[string]int) (met bool, err error) {
	all, err := c.Find(ctx, bson.D{})
	if err != nil {
		return false, err
	}
	defer all.Close(ctx)
	var changes []mongo.WriteModel
	write := func() error {
		if len(changes) == 0 {
			return nil
		}
		_, err := c.BulkWrite(ctx, changes)
		changes = changes[:0]
		return err
	}
	for all.Next(ctx) {
		var d bson.D
		if err := all.Decode(&d); err != nil {
			return met, err
		}
		id, _ := field(d, "_id")
		less, had := without(d, path, func(v any) {
			if text, is := v.(string); is && len(text) >= kind.SampleLength && len(found) < mostFound {
				found[text]++
			}
		})
		if !had {
			continue
		}
		met = true
		changes = append(changes, mongo.NewReplaceOneModel().SetFilter(bson.D{{Key: "_id", Value: id}}).SetReplacement(less))
		if len(changes) == 500 {
			if err := write(); err != nil {
				return met, err
			}
		}
	}
	if err := all.Err(); err != nil {
		return met, err
	}
	return met, write()
}

func field(d bson.D, name string) (any, bool) {
	for _, e := range d {
		if e.Key == name {
			return e.Value, true
		}
	}
	return nil, false
}

// without returns a value without what a path leads to in it, through arrays too, and whether it had
// that. A part of the path that is a number also leads to that element of an array.
func without(v any, path []string, gone func(any)) (less any, had bool) {
	switch v := v.(type) {
	case bson.D:
		out := make(bson.D, 0, len(v))
		for _, e := range v {
			if e.Key != path[0] {
				out = append(out, e)
				continue
			}
			if len(path) == 1 {
				texts(e.Value, gone)
				had = true
				continue
			}
			inner, did := without(e.Value, path[1:], gone)
			had = had || did
			out = append(out, bson.E{Key: e.Key, Value: inner})
		}
		return out, had
	case bson.A:
		out := make(bson.A, len(v))
		for i, e := range v {
			out[i] = e
			if strconv.Itoa(i) == path[0] {
				if len(path) == 1 {
					texts(e, gone)
					out[i], had = nil, true
					continue
				}
				inner, did := without(e, path[1:], gone)
				out[i], had = inner, had || did
				continue
			}
			inner, did := without(e, path, gone)
			out[i], had = inner, had || did
		}
		return out, had
	}
	return v, false
}

// texts tells of all values in one.
func texts(v any, tell func(any)) {
	switch v := v.(type) {
	case bson.D:
		for _, e := range v {
			texts(e.Value, tell)
		}
	case bson.A:
		for _, e := range v {
			texts(e, tell)
		}
	default:
		tell(v)
	}
}

// Scrub takes away what the file keeps beside the documents, and writes it anew.
func (Kind) Scrub(_ context.Context, in *kind.Instance) error { return documents.Forget(in.Data) }
