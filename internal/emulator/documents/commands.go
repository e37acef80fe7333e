package documents

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
	"neighbour/internal/emulator/documents/wire"
)

// commands are those that are here. What they answer gets its "ok" later.
var commands = map[string]func(*Server, context.Context, *command) (bson.D, error){
	"hello": hello, "isMaster": hello, "ismaster": hello,
	"ping":        func(*Server, context.Context, *command) (bson.D, error) { return bson.D{}, nil },
	"endSessions": func(*Server, context.Context, *command) (bson.D, error) { return bson.D{}, nil },
	"buildInfo":   buildInfo, "buildinfo": buildInfo,
	"find": find, "getMore": getMore, "killCursors": killCursors, "count": count, "distinct": distinct,
	"insert": insert, "findAndModify": findAndModify, "findandmodify": findAndModify, "update": change, "delete": remove,
	"create": create, "drop": drop, "dropDatabase": dropDatabase, "listDatabases": listDatabases, "listCollections": listCollections,
}

// imitated is the version of the server whose protocol is spoken.
var imitated = []int32{7, 0, 0, 0}

func hello(s *Server, _ context.Context, _ *command) (bson.D, error) {
	return bson.D{{Key: "helloOk", Value: true}, {Key: "isWritablePrimary", Value: true}, {Key: "ismaster", Value: true},
		{Key: "maxBsonObjectSize", Value: int32(value.MostBytes)}, {Key: "maxMessageSizeBytes", Value: int32(wire.MostBytes)}, {Key: "maxWriteBatchSize", Value: int32(wire.MostDocuments)},
		{Key: "localTime", Value: time.Now()}, {Key: "logicalSessionTimeoutMinutes", Value: int32(30)}, {Key: "connectionId", Value: s.connections.Load()},
		{Key: "minWireVersion", Value: int32(0)}, {Key: "maxWireVersion", Value: int32(21)}, {Key: "readOnly", Value: false}}, nil
}

func buildInfo(*Server, context.Context, *command) (bson.D, error) {
	return bson.D{{Key: "version", Value: fmt.Sprintf("%d.%d.%d", imitated[0], imitated[1], imitated[2])}, {Key: "versionArray", Value: imitated},
		{Key: "bits", Value: int32(64)}, {Key: "maxBsonObjectSize", Value: int32(value.MostBytes)}, {Key: "modules", Value: bson.A{}}}, nil
}

func (c *command) space() (engine.Space, error) {
	name, err := c.collection()
	return engine.Space{Database: c.database, Collection: name}, err
}

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

// written is the answer to writes of which some may have been refused.
func written(answer bson.D, refused []engine.WriteError) bson.D {
	if len(refused) == 0 {
		return answer
	}
	list := bson.A{}
	for _, w := range refused {
		e := bson.D{{Key: "index", Value: int32(w.Index)}, {Key: "code", Value: w.Err.Code}, {Key: "errmsg", Value: w.Err.Message}}
		if w.Pattern != nil {
			e = append(e, bson.E{Key: "keyPattern", Value: w.Pattern}, bson.E{Key: "keyValue", Value: w.Value})
		}
		list = append(list, e)
	}
	return append(answer, bson.E{Key: "writeErrors", Value: list})
}

// refuse notes that a write was refused, if that is what an error says.
func refuse(list []engine.WriteError, index int, err error) ([]engine.WriteError, error) {
	var w *engine.WriteError
	var f *fault.Error
	switch {
	case errors.As(err, &w):
		w.Index = index
		return append(list, *w), nil
	case errors.As(err, &f):
		return append(list, engine.WriteError{Index: index, Err: f}), nil
	}
	return list, err
}

// writes reads what commands that write several times have in common: where, what, and
// whether the first that is refused is the last that is tried.
func (c *command) writes(name string) (space engine.Space, all []bson.Raw, ordered bool, err error) {
	if err = c.only(name+" ordered bypassDocumentValidation", ""); err != nil {
		return space, nil, false, err
	}
	if space, err = c.space(); err != nil {
		return space, nil, false, err
	}
	if all, err = c.list(name); err != nil {
		return space, nil, false, err
	}
	ordered, err = c.truth("ordered", true)
	return space, all, ordered, err
}

// inTurn makes writes one after another, and returns those that were refused.
func inTurn(all []bson.Raw, ordered bool, write func(i int, d bson.Raw) error) (refused []engine.WriteError, err error) {
	for i, d := range all {
		if err := write(i, d); err != nil {
			if refused, err = refuse(refused, i, err); err != nil || ordered {
				return refused, err
			}
		}
	}
	return refused, nil
}

func insert(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("documents")
	if err != nil {
		return nil, err
	}
	n, refused, err := s.engine.Insert(ctx, space, all, ordered)
	return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
}

func change(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("updates")
	if err != nil {
		return nil, err
	}
	n, modified, upserted := 0, 0, bson.A{}
	refused, err := inTurn(all, ordered, func(i int, d bson.Raw) error {
		done, err := s.updateOne(ctx, space, sub("updates", d))
		if err != nil {
			return err
		}
		n, modified = n+done.Matched, modified+done.Modified
		if done.Upserted.Type != 0 {
			n++
			upserted = append(upserted, bson.D{{Key: "index", Value: int32(i)}, {Key: "_id", Value: done.Upserted}})
		}
		return nil
	})
	answer := bson.D{{Key: "n", Value: int32(n)}, {Key: "nModified", Value: int32(modified)}}
	if len(upserted) > 0 {
		answer = append(answer, bson.E{Key: "upserted", Value: upserted})
	}
	return written(answer, refused), err
}

func (s *Server) updateOne(ctx context.Context, space engine.Space, c *command) (done engine.Updated, err error) {
	if err := c.only("q u multi upsert arrayFilters", "collation hint c sort"); err != nil {
		return done, err
	}
	var u engine.Update
	if u.Filter, err = c.part("q"); err != nil {
		return done, err
	}
	u.Update, _ = c.lookup("u")
	if u.Many, err = c.truth("multi", false); err != nil {
		return done, err
	}
	if u.Upsert, err = c.truth("upsert", false); err != nil {
		return done, err
	}
	if v, ok := c.lookup("arrayFilters"); ok && !empty(v) {
		if u.Filters, err = c.list("arrayFilters"); err != nil {
			return done, err
		}
	}
	return s.engine.Update(ctx, space, u)
}

func findAndModify(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("query sort remove update new fields upsert arrayFilters bypassDocumentValidation", "collation hint"); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	var u engine.Update
	var problems []error
	note := func(err error) { problems = append(problems, err) }
	u.Filter, err = c.part("query")
	note(err)
	sort, err := c.part("sort")
	note(err)
	fields, err := c.part("fields")
	note(err)
	gone, err := c.truth("remove", false)
	note(err)
	after, err := c.truth("new", false)
	note(err)
	u.Upsert, err = c.truth("upsert", false)
	note(err)
	if v, ok := c.lookup("arrayFilters"); ok && !empty(v) {
		u.Filters, err = c.list("arrayFilters")
		note(err)
	}
	if err := errors.Join(problems...); err != nil {
		return nil, err
	}
	var given bool
	u.Update, given = c.lookup("update")
	switch {
	case gone == given:
		return nil, fault.FailedToParse("Either an update or remove=true must be specified")
	case gone && (after || u.Upsert):
		return nil, fault.FailedToParse("Cannot specify both remove=true and new or upsert; 'remove' always returns the deleted document")
	}
	shown, err := projection.Parse(fields)
	if err != nil {
		return nil, err
	}
	done, err := s.engine.Modify(ctx, space, u, sort, gone)
	if err != nil {
		return nil, err
	}
	n := int32(0)
	if done.Before != nil || done.Upserted.Type != 0 {
		n = 1
	}
	about := bson.D{{Key: "n", Value: n}}
	if !gone {
		about = append(about, bson.E{Key: "updatedExisting", Value: done.Before != nil})
	}
	if done.Upserted.Type != 0 {
		about = append(about, bson.E{Key: "upserted", Value: done.Upserted})
	}
	document := done.Before
	if after {
		document = done.After
	}
	var answer any
	if document != nil {
		answer = shown.Apply(document)
	}
	return bson.D{{Key: "lastErrorObject", Value: about}, {Key: "value", Value: answer}}, nil
}

func remove(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("deletes")
	if err != nil {
		return nil, err
	}
	n := 0
	refused, err := inTurn(all, ordered, func(_ int, d bson.Raw) error {
		one := sub("deletes", d)
		if err := one.only("q limit", "collation hint"); err != nil {
			return err
		}
		filter, err := one.part("q")
		if err != nil {
			return err
		}
		limit, err := one.number("limit", 0)
		if err != nil {
			return err
		}
		deleted, err := s.engine.Delete(ctx, space, filter, limit == 0)
		n += deleted
		return err
	})
	return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
}

func create(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("", "capped size max autoIndexId validator validationLevel validationAction viewOn pipeline collation timeseries expireAfterSeconds clusteredIndex indexOptionDefaults storageEngine"); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	made, err := s.engine.Create(ctx, space)
	if err == nil && !made {
		err = &fault.Error{Code: 48, Name: "NamespaceExists", Message: fmt.Sprintf("Collection %s already exists.", space)}
	}
	return bson.D{}, err
}

func drop(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	was, err := s.engine.Drop(ctx, space)
	if !was {
		return bson.D{}, err
	}
	return bson.D{{Key: "nIndexesWas", Value: int32(1)}, {Key: "ns", Value: space.String()}}, err
}

func dropDatabase(s *Server, ctx context.Context, c *command) (bson.D, error) {
	for _, name := range s.engine.Collections(c.database) {
		if _, err := s.engine.Drop(ctx, engine.Space{Database: c.database, Collection: name}); err != nil {
			return nil, err
		}
	}
	return bson.D{{Key: "dropped", Value: c.database}}, nil
}

func listDatabases(s *Server, _ context.Context, c *command) (bson.D, error) {
	if err := c.only("nameOnly authorizedDatabases", "filter"); err != nil {
		return nil, err
	}
	all := s.engine.Databases()
	slices.Sort(all)
	list := bson.A{}
	for _, name := range all {
		list = append(list, bson.D{{Key: "name", Value: name}, {Key: "sizeOnDisk", Value: int64(0)}, {Key: "empty", Value: false}})
	}
	return bson.D{{Key: "databases", Value: list}, {Key: "totalSize", Value: int64(0)}}, nil
}

func listCollections(s *Server, _ context.Context, c *command) (bson.D, error) {
	if err := c.only("nameOnly authorizedCollections cursor filter", ""); err != nil {
		return nil, err
	}
	wanted, err := c.part("filter")
	if err != nil {
		return nil, err
	}
	all := s.engine.Collections(c.database)
	slices.Sort(all)
	var list []bson.Raw
	for _, name := range all {
		b, err := bson.Marshal(bson.D{{Key: "name", Value: name}, {Key: "type", Value: "collection"}, {Key: "options", Value: bson.D{}}, {Key: "info", Value: bson.D{{Key: "readOnly", Value: false}}},
			{Key: "idIndex", Value: bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "_id", Value: int32(1)}}}, {Key: "name", Value: "_id_"}}}})
		if err != nil {
			return nil, err
		}
		if ok, err := meets(b, wanted); err != nil {
			return nil, err
		} else if ok {
			list = append(list, b)
		}
	}
	return batch("firstBatch", 0, engine.Space{Database: c.database, Collection: "$cmd.listCollections"}, list), nil
}

// meets reports whether a document is one that a filter means.
func meets(d, filter bson.Raw) (bool, error) {
	f, err := query.Parse(filter)
	if err != nil {
		return false, err
	}
	return f.Matches(d), nil
}
