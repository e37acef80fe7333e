package documents

import (
	"context"
	"fmt"
	"slices"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
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
