package documents

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

const (
	firstBatch = 101      // documents, where a client doesn't say
	batchBytes = 16 << 20 // about as much is in one answer
)

// source gives the documents of a cursor that is open, at most n of them and about so many
// bytes, and says whether there may be more.
type source func(ctx context.Context, n int, bytes int) (all []bson.Raw, more bool, err error)

// openCursor is a cursor from which a client has not had everything.
type openCursor struct {
	mu    sync.Mutex // one batch at a time
	from  source
	space engine.Space
	used  time.Time
	// watch is what a cursor of changes has beside its documents.
	watch *watch
}

// next returns the documents that follow, at most size of them.
func (o *openCursor) next(ctx context.Context, size int64) (all []bson.Raw, more bool, err error) {
	all, more, err = o.from(ctx, int(min(size, 1<<30)), batchBytes)
	for _, d := range all {
		if err == nil && len(d) > value.MostBytes {
			err = fault.TooLarge("a document of the answer has %d bytes, more than %d", len(d), value.MostBytes)
		}
	}
	return all, more, err
}

// constantOf computes an expression that needs no document.
func constantOf(v bson.RawValue) (bson.RawValue, error) {
	e, err := expression.Parse(v, nil)
	if err != nil {
		return v, err
	}
	return e.Of(value.OfDocument(value.Document()), nil)
}

// projected gives the documents of a cursor as a projection has them.
func projected(cursor *engine.Cursor, shown *projection.Projection, variables map[string]bson.RawValue) source {
	return func(ctx context.Context, n, bytes int) ([]bson.Raw, bool, error) {
		all, more, err := cursor.Next(ctx, n, bytes)
		for i := range all {
			if err == nil {
				all[i], err = shown.Apply(all[i], variables)
			}
		}
		return all, more, err
	}
}

const findOptions = "filter sort projection skip limit batchSize singleBatch allowDiskUse noCursorTimeout hint collation"

// findOf reads a find.
func (s *Server) findOf(c *command) (space engine.Space, f engine.Find, err error) {
	if err := c.only(findOptions, "max min returnKey showRecordId tailable awaitData oplogReplay allowPartialResults"); err != nil {
		return space, f, err
	}
	if space, err = c.space(); err != nil {
		return space, f, err
	}
	var r reader
	f.Filter, f.Sort = r.part(c, "filter"), r.part(c, "sort")
	f.Skip, f.Limit = r.number(c, "skip", 0), r.number(c, "limit", 0)
	f.Collation, f.Hint = r.collation(c), r.hint(s, c, space)
	if r.err != nil {
		return space, f, r.err
	}
	for name, n := range map[string]int64{"skip": f.Skip, "limit": f.Limit} {
		if n < 0 {
			return space, f, &fault.Error{Code: 51024, Name: "Location51024", Message: fmt.Sprintf("BSON field '%s' value must be >= 0, actual value '%d'", name, n)}
		}
	}
	f.Variables, err = s.variables(c)
	return space, f, err
}

func find(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, f, err := s.findOf(c)
	if err != nil {
		return nil, err
	}
	var r reader
	size, single, wanted := r.number(c, "batchSize", firstBatch), r.truth(c, "singleBatch"), r.part(c, "projection")
	if r.err == nil && size < 0 {
		r.err = &fault.Error{Code: 51024, Name: "Location51024", Message: fmt.Sprintf("BSON field 'batchSize' value must be >= 0, actual value '%d'", size)}
	}
	if r.err != nil {
		return nil, r.err
	}
	filter, err := query.ParseWith(f.Filter, query.Options{Collation: f.Collation, Text: s.engine.TextPaths(space)})
	if err != nil {
		return nil, err
	}
	shown, err := projection.Parse(wanted, projection.Options{Filter: filter, Collation: f.Collation})
	if err != nil {
		return nil, err
	}
	cursor, err := s.open(ctx, c, space, f)
	if err != nil {
		return nil, err
	}
	o := &openCursor{space: space, from: projected(cursor, shown, f.Variables)}
	return s.firstOf(ctx, o, size, single)
}

// firstOf answers with a cursor's first documents, and keeps it open if there are more.
func (s *Server) firstOf(ctx context.Context, o *openCursor, size int64, single bool) (bson.D, error) {
	all, more, err := o.next(ctx, size)
	if err != nil {
		return nil, err
	}
	id := int64(0)
	if more && !single {
		id = s.keep(o)
	}
	return o.batch("firstBatch", id, all), nil
}

// batch is the answer with some documents of a cursor.
func (o *openCursor) batch(name string, id int64, all []bson.Raw) bson.D {
	if all == nil {
		all = []bson.Raw{}
	}
	cursor := bson.D{{Key: name, Value: all}, {Key: "id", Value: id}, {Key: "ns", Value: o.space.String()}}
	if o.watch != nil {
		cursor = append(cursor, bson.E{Key: "postBatchResumeToken", Value: o.watch.token()})
	}
	return bson.D{{Key: "cursor", Value: cursor}}
}

// listed is the answer with all of a list.
func listed(space engine.Space, all []bson.Raw) bson.D {
	return (&openCursor{space: space}).batch("firstBatch", 0, all)
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
	if o.watch != nil {
		wait, err := c.number("maxTimeMS", 1000)
		if err != nil {
			return nil, err
		}
		o.watch.patience = time.Duration(wait) * time.Millisecond
	}
	all, more, err := o.next(ctx, size)
	if err != nil || !more {
		s.forget(id)
		id = 0
	}
	if err != nil {
		return nil, err
	}
	return o.batch("nextBatch", id, all), nil
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
	var r reader
	f := engine.Find{Filter: r.part(c, "query"), Skip: r.number(c, "skip", 0), Limit: r.number(c, "limit", 0), Collation: r.collation(c), Hint: r.hint(s, c, space)}
	if f.Limit = max(f.Limit, -f.Limit); f.Skip < 0 {
		r.note(&fault.Error{Code: 51024, Name: "Location51024", Message: "BSON field 'skip' value must be >= 0"})
	}
	if r.err != nil {
		return r.err
	}
	if f.Variables, err = s.variables(c); err != nil {
		return err
	}
	cursor, err := s.open(ctx, c, space, f)
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
	if err := c.only("query skip limit hint collation", "fields"); err != nil {
		return nil, err
	}
	if q, err := c.part("query"); err == nil && (q == nil || len(q) == 5) && c.transaction == nil {
		_, skip := c.lookup("skip")
		_, limit := c.lookup("limit")
		space, err := c.space()
		if err == nil && !skip && !limit {
			n, err := s.engine.Count(ctx, space)
			return bson.D{{Key: "n", Value: int32(n)}}, err
		}
	}
	n := int32(0)
	err := each(s, ctx, c, func(bson.Raw) { n++ })
	return bson.D{{Key: "n", Value: n}}, err
}

func distinct(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("key query collation hint", ""); err != nil {
		return nil, err
	}
	v, _ := c.lookup("key")
	key, ok := v.StringValueOK()
	if !ok {
		return nil, c.mistyped("key", v, "string")
	}
	var r reader
	collation := r.collation(c)
	seen := map[string]bool{}
	values := bson.A{}
	err := each(s, ctx, c, func(d bson.Raw) {
		query.Values(d, strings.Split(key, "."), func(v bson.RawValue) {
			if k := string(collation.Key(v)); !seen[k] {
				seen[k] = true
				values = append(values, v)
			}
		})
	})
	return bson.D{{Key: "values", Value: values}}, err
}

// place is where a pipeline finds its collections.
type place struct {
	s        *Server
	c        *command
	database string
}

// Find returns the documents of a collection that a filter means.
func (p place) Find(ctx context.Context, collection string, filter bson.Raw) (pipeline.Next, error) {
	cursor, err := p.s.open(ctx, p.c, engine.Space{Database: p.database, Collection: collection}, engine.Find{Filter: filter})
	return nextOf(cursor), err
}

// nextOf gives the documents of a cursor one by one.
func nextOf(cursor *engine.Cursor) pipeline.Next {
	var ready []bson.Raw
	more := true
	return func(ctx context.Context) (bson.Raw, error) {
		for len(ready) == 0 {
			if !more {
				return nil, nil
			}
			var err error
			if ready, more, err = cursor.Next(ctx, 500, 4<<20); err != nil {
				return nil, err
			}
		}
		d := ready[0]
		ready = ready[1:]
		return d, nil
	}
}

func aggregate(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("pipeline cursor allowDiskUse bypassDocumentValidation collation hint", "explain exchange"); err != nil {
		return nil, err
	}
	all, err := c.list("pipeline")
	if v, ok := c.lookup("pipeline"); ok && v.Type == bson.TypeArray && len(v.Value) == 5 {
		all, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	space, whole := engine.Space{Database: c.database}, false
	if first, _ := c.lookup("aggregate"); value.IsNumber(first) {
		whole = true
	} else if space, err = c.space(); err != nil {
		return nil, err
	}
	var r reader
	o := pipeline.Options{Collation: r.collation(c), Text: s.engine.TextPaths(space)}
	hint := r.hint(s, c, space)
	size := int64(firstBatch)
	if at := r.part(c, "cursor"); at != nil {
		size = r.number(sub("cursor", at), "batchSize", firstBatch)
	}
	if r.err != nil {
		return nil, r.err
	}
	if o.Variables, err = s.variables(c); err != nil {
		return nil, err
	}
	p, err := pipeline.Parse(all, o)
	switch {
	case err != nil:
		return nil, err
	case p.Watch.Type != 0:
		return s.watch(ctx, c, space, p, all, size)
	case whole:
		return nil, fault.NotImplemented("a pipeline without a collection is here for $changeStream only")
	}
	cursor, err := s.open(ctx, c, space, engine.Find{Filter: p.Filter, Sort: p.Sort, Skip: p.Skip, Limit: p.Limit, Hint: hint, Collation: o.Collation, Variables: o.Variables})
	if err != nil {
		return nil, err
	}
	next := p.Run(nextOf(cursor), place{s, c, c.database}, o.Variables)
	if p.Out != nil {
		return s.writeOut(ctx, c, space, p.Out, next)
	}
	return s.firstOf(ctx, &openCursor{space: space, from: ofPipeline(next)}, size, false)
}

// ofPipeline gives what a pipeline makes; one document is read ahead, to know whether
// there is one.
func ofPipeline(next pipeline.Next) source {
	var ahead bson.Raw
	begun := false
	return func(ctx context.Context, n, bytes int) (all []bson.Raw, more bool, err error) {
		if n < 1 {
			return nil, true, nil
		}
		if !begun {
			if ahead, err = next(ctx); err != nil {
				return nil, false, err
			}
			begun = true
		}
		for ahead != nil && len(all) < n && bytes > 0 {
			all = append(all, ahead)
			bytes -= len(ahead)
			if ahead, err = next(ctx); err != nil {
				return nil, false, err
			}
		}
		return all, ahead != nil, nil
	}
}
