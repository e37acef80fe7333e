package documents

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

const (
	firstBatch = 101      // documents, where a client doesn't say
	batchBytes = 16 << 20 // about as much is in one answer
)

func find(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("filter sort projection skip limit batchSize singleBatch allowDiskUse noCursorTimeout", "hint collation max min returnKey showRecordId tailable awaitData oplogReplay allowPartialResults"); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	var f engine.Find
	var problems []error
	note := func(err error) { problems = append(problems, err) }
	f.Filter, err = c.part("filter")
	note(err)
	f.Sort, err = c.part("sort")
	note(err)
	wanted, err := c.part("projection")
	note(err)
	f.Skip, err = c.number("skip", 0)
	note(err)
	f.Limit, err = c.number("limit", 0)
	note(err)
	size, err := c.number("batchSize", firstBatch)
	note(err)
	single, err := c.truth("singleBatch", false)
	note(err)
	if err := errors.Join(problems...); err != nil {
		return nil, err
	}
	for name, n := range map[string]int64{"skip": f.Skip, "limit": f.Limit, "batchSize": size} {
		if n < 0 {
			return nil, &fault.Error{Code: 51024, Name: "Location51024", Message: fmt.Sprintf("BSON field '%s' value must be >= 0, actual value '%d'", name, n)}
		}
	}
	o := &openCursor{space: space}
	if o.shown, err = projection.Parse(wanted); err != nil {
		return nil, err
	}
	if o.cursor, err = s.engine.Open(ctx, space, f); err != nil {
		return nil, err
	}
	all, more, err := o.next(ctx, size)
	if err != nil {
		return nil, err
	}
	id := int64(0)
	if more && !single {
		id = s.keep(o)
	}
	return batch("firstBatch", id, space, all), nil
}

// batch is the answer with some documents of a cursor.
func batch(name string, id int64, space engine.Space, all []bson.Raw) bson.D {
	if all == nil {
		all = []bson.Raw{}
	}
	return bson.D{{Key: "cursor", Value: bson.D{{Key: name, Value: all}, {Key: "id", Value: id}, {Key: "ns", Value: space.String()}}}}
}

func getMore(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("collection batchSize", "term lastKnownCommittedOpTime"); err != nil {
		return nil, err
	}
	id, err := c.number("getMore", 0)
	if err != nil {
		return nil, err
	}
	size, err := c.number("batchSize", 1<<30)
	if err != nil {
		return nil, err
	}
	if size < 1 {
		size = 1 << 30
	}
	o := s.cursor(id)
	if o == nil {
		return nil, &fault.Error{Code: 43, Name: "CursorNotFound", Message: fmt.Sprintf("cursor id %d not found", id)}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	all, more, err := o.next(ctx, size)
	if err != nil || !more {
		s.forget(id)
		id = 0
	}
	if err != nil {
		return nil, err
	}
	return batch("nextBatch", id, o.space, all), nil
}

func killCursors(s *Server, _ context.Context, c *command) (bson.D, error) {
	v, _ := c.lookup("cursors")
	if v.Type != bson.TypeArray {
		return nil, c.mistyped("cursors", v, "array")
	}
	killed, gone := bson.A{}, bson.A{}
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		if id, ok := value.Integer(e); ok && s.forget(id) {
			killed = append(killed, id)
		} else {
			gone = append(gone, e)
		}
		return true
	})
	return bson.D{{Key: "cursorsKilled", Value: killed}, {Key: "cursorsNotFound", Value: gone}, {Key: "cursorsAlive", Value: bson.A{}}, {Key: "cursorsUnknown", Value: bson.A{}}}, nil
}

// each calls do with all documents that a command's query means.
func each(s *Server, ctx context.Context, c *command, do func(bson.Raw)) error {
	space, err := c.space()
	if err != nil {
		return err
	}
	var f engine.Find
	if f.Filter, err = c.part("query"); err != nil {
		return err
	}
	if f.Skip, err = c.number("skip", 0); err != nil {
		return err
	}
	if f.Limit, err = c.number("limit", 0); err != nil {
		return err
	}
	f.Limit = max(f.Limit, -f.Limit)
	if f.Skip < 0 {
		return &fault.Error{Code: 51024, Name: "Location51024", Message: "BSON field 'skip' value must be >= 0"}
	}
	cursor, err := s.engine.Open(ctx, space, f)
	if err != nil {
		return err
	}
	for more := true; more; {
		var all []bson.Raw
		if all, more, err = cursor.Next(ctx, 1000, 1<<20); err != nil {
			return err
		}
		for _, d := range all {
			do(d)
		}
	}
	return nil
}

func count(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("query skip limit", "hint collation fields"); err != nil {
		return nil, err
	}
	n := int32(0)
	err := each(s, ctx, c, func(bson.Raw) { n++ })
	return bson.D{{Key: "n", Value: n}}, err
}

func distinct(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("key query", "collation hint"); err != nil {
		return nil, err
	}
	v, _ := c.lookup("key")
	key, ok := v.StringValueOK()
	if !ok {
		return nil, c.mistyped("key", v, "string")
	}
	seen := map[string]bool{}
	values := bson.A{}
	err := each(s, ctx, c, func(d bson.Raw) {
		query.Values(d, strings.Split(key, "."), func(v bson.RawValue) {
			if k := string(value.Key(v)); !seen[k] {
				seen[k] = true
				values = append(values, v)
			}
		})
	})
	return bson.D{{Key: "values", Value: values}}, err
}
