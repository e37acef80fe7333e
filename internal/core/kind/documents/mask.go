package documents

import (
	"context"
	"fmt"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

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

// Mask takes fields out of documents, in all databases that have the collection.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) error {
	c, err := connect(in)
	if err != nil {
		return err
	}
	s := &source{c: c, own: database(in)}
	defer s.Close()
	names, err := c.ListDatabaseNames(ctx, bson.D{})
	if err != nil {
		return explain(err)
	}
	for _, rule := range rules {
		collection, path, err := fieldRule(rule)
		if err != nil {
			return err
		}
		var met int64
		for _, name := range names {
			r, err := c.Database(name).Collection(collection).UpdateMany(ctx, bson.D{{Key: path, Value: bson.D{{Key: "$exists", Value: true}}}}, bson.D{{Key: "$unset", Value: bson.D{{Key: path, Value: ""}}}})
			if err != nil {
				return fmt.Errorf("%s: %w", rule, explain(err))
			}
			met += r.MatchedCount
		}
		if met == 0 {
			return fmt.Errorf("%q names nothing: no document has such a field", rule)
		}
	}
	return nil
}

// Scrub takes away what the file keeps beside the documents, and writes it anew.
func (Kind) Scrub(_ context.Context, in *kind.Instance) error { return documents.Forget(in.Data) }
