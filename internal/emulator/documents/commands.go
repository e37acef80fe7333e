package documents

import (
	"context"
	"fmt"
	"os"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
	"neighbour/internal/emulator/documents/wire"
)

// commands are those that are here. What they answer gets its "ok" later.
var commands map[string]func(*Server, context.Context, *command) (bson.D, error)

func nothing(*Server, context.Context, *command) (bson.D, error) { return bson.D{}, nil }

func init() {
	commands = map[string]func(*Server, context.Context, *command) (bson.D, error){
		"hello": hello, "isMaster": hello, "ismaster": hello, "ping": nothing, "buildInfo": buildInfo, "buildinfo": buildInfo,
		"saslStart": saslStart, "saslContinue": saslContinue, "connectionStatus": connectionStatus, "logout": logout,
		"startSession": startSession, "refreshSessions": nothing, "endSessions": endSessions, "killSessions": endSessions, "commitTransaction": commitTransaction, "abortTransaction": abortTransaction,
		"find": find, "getMore": getMore, "killCursors": killCursors, "count": count, "distinct": distinct, "aggregate": aggregate, "explain": explain,
		"insert": insert, "findAndModify": findAndModify, "findandmodify": findAndModify, "update": change, "delete": remove,
		"create": create, "drop": drop, "dropDatabase": dropDatabase, "listDatabases": listDatabases, "listCollections": listCollections, "renameCollection": rename,
		"createIndexes": createIndexes, "listIndexes": listIndexes, "dropIndexes": dropIndexes, "deleteIndexes": dropIndexes, "collStats": collStats, "dbStats": dbStats, "dbstats": dbStats, "serverStatus": serverStatus, "whatsmyuri": whatsMyURI,
	}
}

// imitated is the version of the server whose protocol is spoken.
var imitated = []int32{7, 0, 0, 0}

// setName is the name of the set of servers that this one is the only one of. Clients have
// transactions and watch changes with members of sets only.
const setName = "neighbour"

func hello(s *Server, _ context.Context, c *command) (bson.D, error) {
	me := c.conn.address
	if client, err := c.part("client"); err == nil && client != nil {
		name, _ := value.Lookup(value.OfDocument(client), []string{"application", "name"})
		text, _ := name.StringValueOK()
		c.conn.own = text == OwnClient
	}
	answer := bson.D{{Key: "helloOk", Value: true}, {Key: "isWritablePrimary", Value: true}, {Key: "ismaster", Value: true}, {Key: "secondary", Value: false},
		{Key: "setName", Value: setName}, {Key: "setVersion", Value: int32(1)}, {Key: "hosts", Value: bson.A{me}}, {Key: "primary", Value: me}, {Key: "me", Value: me}, {Key: "electionId", Value: s.election},
		{Key: "maxBsonObjectSize", Value: int32(value.MostBytes)}, {Key: "maxMessageSizeBytes", Value: int32(wire.MostBytes)}, {Key: "maxWriteBatchSize", Value: int32(wire.MostDocuments)},
		{Key: "localTime", Value: s.now()}, {Key: "logicalSessionTimeoutMinutes", Value: int32(30)}, {Key: "connectionId", Value: c.conn.id},
		{Key: "minWireVersion", Value: int32(0)}, {Key: "maxWireVersion", Value: int32(21)}, {Key: "readOnly", Value: false},
		{Key: "lastWrite", Value: bson.D{{Key: "lastWriteDate", Value: s.now()}}}}
	if _, ok := c.lookup("saslSupportedMechs"); ok {
		answer = append(answer, bson.E{Key: "saslSupportedMechs", Value: bson.A{"SCRAM-SHA-256"}})
	}
	return answer, nil
}

func buildInfo(*Server, context.Context, *command) (bson.D, error) {
	return bson.D{{Key: "version", Value: fmt.Sprintf("%d.%d.%d", imitated[0], imitated[1], imitated[2])}, {Key: "versionArray", Value: imitated},
		{Key: "bits", Value: int32(64)}, {Key: "maxBsonObjectSize", Value: int32(value.MostBytes)}, {Key: "modules", Value: bson.A{}}}, nil
}

func serverStatus(s *Server, _ context.Context, _ *command) (bson.D, error) {
	return bson.D{{Key: "host", Value: "localhost"}, {Key: "version", Value: "7.0.0"}, {Key: "process", Value: "neighbour"}, {Key: "pid", Value: int64(os.Getpid())},
		{Key: "uptime", Value: time.Since(s.began).Seconds()}, {Key: "localTime", Value: s.now()}, {Key: "connections", Value: bson.D{{Key: "current", Value: s.clients.Load()}, {Key: "totalCreated", Value: s.connections.Load()}}}}, nil
}

func whatsMyURI(_ *Server, _ context.Context, c *command) (bson.D, error) {
	return bson.D{{Key: "you", Value: c.conn.client}}, nil
}

func startSession(*Server, context.Context, *command) (bson.D, error) {
	id := bson.NewObjectID()
	return bson.D{{Key: "id", Value: bson.D{{Key: "id", Value: bson.Binary{Subtype: 4, Data: append(id[:], 0, 0, 0, 0)}}}}, {Key: "timeoutMinutes", Value: int32(30)}}, nil
}

func (c *command) space() (engine.Space, error) {
	name, err := c.collection()
	return engine.Space{Database: c.database, Collection: name}, err
}

func create(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("autoIndexId", "capped size max validator validationLevel validationAction viewOn pipeline collation timeseries expireAfterSeconds clusteredIndex indexOptionDefaults storageEngine changeStreamPreAndPostImages"); err != nil {
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
	was, indexes, err := s.engine.Drop(ctx, space)
	if err != nil || !was {
		return bson.D{}, err
	}
	return bson.D{{Key: "nIndexesWas", Value: int32(indexes)}, {Key: "ns", Value: space.String()}}, nil
}

func dropDatabase(s *Server, ctx context.Context, c *command) (bson.D, error) {
	for _, name := range s.engine.Collections(c.database) {
		if _, _, err := s.engine.Drop(ctx, engine.Space{Database: c.database, Collection: name}); err != nil {
			return nil, err
		}
	}
	return bson.D{{Key: "dropped", Value: c.database}}, nil
}

func rename(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("to dropTarget", ""); err != nil {
		return nil, err
	}
	v, _ := c.lookup("renameCollection")
	from, _ := v.StringValueOK()
	v, _ = c.lookup("to")
	to, _ := v.StringValueOK()
	replace, err := c.truth("dropTarget", false)
	if err != nil {
		return nil, err
	}
	var a, b engine.Space
	var okA, okB bool
	a.Database, a.Collection, okA = cutSpace(from)
	b.Database, b.Collection, okB = cutSpace(to)
	if !okA || !okB {
		return nil, &fault.Error{Code: 73, Name: "InvalidNamespace", Message: fmt.Sprintf("Invalid namespace: from %q to %q", from, to)}
	}
	return bson.D{}, s.engine.Rename(ctx, a, b, replace)
}

// size is how many bytes the documents of a database have.
func (s *Server) size(ctx context.Context, database string) (n int64, err error) {
	for _, name := range s.engine.Collections(database) {
		more, err := s.engine.Size(ctx, engine.Space{Database: database, Collection: name})
		if err != nil {
			return 0, err
		}
		n += more
	}
	return n, nil
}

func listDatabases(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("nameOnly authorizedDatabases filter", ""); err != nil {
		return nil, err
	}
	var r reader
	wanted, short := r.part(c, "filter"), r.truth(c, "nameOnly")
	if r.err != nil {
		return nil, r.err
	}
	list, total := bson.A{}, int64(0)
	for _, name := range s.engine.Databases() {
		d := bson.D{{Key: "name", Value: name}}
		if !short {
			n, err := s.size(ctx, name)
			if err != nil {
				return nil, err
			}
			total += n
			d = append(d, bson.E{Key: "sizeOnDisk", Value: n}, bson.E{Key: "empty", Value: false})
		}
		b, err := bson.Marshal(d)
		if err != nil {
			return nil, err
		}
		if ok, err := meets(b, wanted); err != nil {
			return nil, err
		} else if ok {
			list = append(list, d)
		}
	}
	answer := bson.D{{Key: "databases", Value: list}}
	if !short {
		answer = append(answer, bson.E{Key: "totalSize", Value: total}, bson.E{Key: "totalSizeMb", Value: total >> 20})
	}
	return answer, nil
}

func listCollections(s *Server, _ context.Context, c *command) (bson.D, error) {
	if err := c.only("nameOnly authorizedCollections cursor filter", ""); err != nil {
		return nil, err
	}
	wanted, err := c.part("filter")
	if err != nil {
		return nil, err
	}
	var list []bson.Raw
	for _, name := range s.engine.Collections(c.database) {
		b, err := bson.Marshal(bson.D{{Key: "name", Value: name}, {Key: "type", Value: "collection"}, {Key: "options", Value: bson.D{}}, {Key: "info", Value: bson.D{{Key: "readOnly", Value: false}}},
			{Key: "idIndex", Value: s.engine.Indexes(engine.Space{Database: c.database, Collection: name})[0]}})
		if err != nil {
			return nil, err
		}
		if ok, err := meets(b, wanted); err != nil {
			return nil, err
		} else if ok {
			list = append(list, b)
		}
	}
	return listed(engine.Space{Database: c.database, Collection: "$cmd.listCollections"}, list), nil
}

// meets reports whether a document is one that a filter means.
func meets(d, filter bson.Raw) (bool, error) {
	f, err := query.Parse(filter)
	if err != nil {
		return false, err
	}
	return f.Matches(d), nil
}

func createIndexes(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("indexes ignoreUnknownIndexOptions commitQuorum", ""); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	all, err := c.list("indexes")
	if err != nil {
		return nil, err
	}
	before, now, made, err := s.engine.Index(ctx, space, all)
	if err != nil {
		return nil, err
	}
	answer := bson.D{{Key: "numIndexesBefore", Value: int32(before)}, {Key: "numIndexesAfter", Value: int32(now)}, {Key: "createdCollectionAutomatically", Value: made}}
	if before == now {
		answer = append(answer, bson.E{Key: "note", Value: "all indexes already exist"})
	}
	return answer, nil
}

func listIndexes(s *Server, _ context.Context, c *command) (bson.D, error) {
	if err := c.only("cursor", ""); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	all := s.engine.Indexes(space)
	if all == nil {
		return nil, &fault.Error{Code: 26, Name: "NamespaceNotFound", Message: "ns does not exist: " + space.String()}
	}
	return listed(space, all), nil
}

func dropIndexes(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("index", ""); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	which, _ := c.lookup("index")
	was, err := s.engine.DropIndexes(ctx, space, which)
	return bson.D{{Key: "nIndexesWas", Value: int32(was)}}, err
}

func collStats(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	n, err := s.engine.Count(ctx, space)
	if err != nil {
		return nil, err
	}
	size, err := s.engine.Size(ctx, space)
	if err != nil {
		return nil, err
	}
	return bson.D{{Key: "ns", Value: space.String()}, {Key: "count", Value: n}, {Key: "size", Value: size}, {Key: "storageSize", Value: size}, {Key: "nindexes", Value: int32(len(s.engine.Indexes(space)))}, {Key: "capped", Value: false}}, nil
}

func dbStats(s *Server, ctx context.Context, c *command) (bson.D, error) {
	var objects, indexes int64
	all := s.engine.Collections(c.database)
	for _, name := range all {
		space := engine.Space{Database: c.database, Collection: name}
		n, err := s.engine.Count(ctx, space)
		if err != nil {
			return nil, err
		}
		objects += n
		indexes += int64(len(s.engine.Indexes(space)))
	}
	size, err := s.size(ctx, c.database)
	return bson.D{{Key: "db", Value: c.database}, {Key: "collections", Value: int64(len(all))}, {Key: "objects", Value: objects}, {Key: "dataSize", Value: size}, {Key: "storageSize", Value: size}, {Key: "indexes", Value: indexes}}, err
}

// explain carries a find out, and tells how.
func explain(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("verbosity", ""); err != nil {
		return nil, err
	}
	of, err := c.part("explain")
	if err != nil {
		return nil, err
	}
	inner := &command{database: c.database, document: of, conn: c.conn}
	value.Elements(of, func(name string, _ bson.RawValue) bool { inner.name = name; return false })
	space, f, err := s.explained(inner)
	if err != nil {
		return nil, err
	}
	x, err := s.engine.Explain(ctx, space, f)
	if err != nil {
		return nil, err
	}
	stage := bson.D{{Key: "stage", Value: "COLLSCAN"}, {Key: "direction", Value: "forward"}}
	if x.Index != "" {
		direction := map[bool]string{false: "forward", true: "backward"}[x.Back]
		stage = bson.D{{Key: "stage", Value: "FETCH"}, {Key: "inputStage", Value: bson.D{{Key: "stage", Value: "IXSCAN"}, {Key: "keyPattern", Value: x.Pattern}, {Key: "indexName", Value: x.Index}, {Key: "isMultiKey", Value: x.Multikey}, {Key: "isUnique", Value: x.Unique}, {Key: "direction", Value: direction}}}}
	}
	if x.Sorts {
		stage = bson.D{{Key: "stage", Value: "SORT"}, {Key: "sortPattern", Value: f.Sort}, {Key: "inputStage", Value: stage}}
	}
	if f.Filter == nil {
		f.Filter = value.Document()
	}
	return bson.D{{Key: "explainVersion", Value: "1"},
		{Key: "queryPlanner", Value: bson.D{{Key: "namespace", Value: space.String()}, {Key: "parsedQuery", Value: f.Filter}, {Key: "winningPlan", Value: stage}, {Key: "rejectedPlans", Value: bson.A{}}}},
		{Key: "executionStats", Value: bson.D{{Key: "executionSuccess", Value: true}, {Key: "nReturned", Value: int32(x.Documents)}, {Key: "totalKeysExamined", Value: int32(x.Examined.Keys)}, {Key: "totalDocsExamined", Value: int32(x.Examined.Documents)}}},
		{Key: "serverInfo", Value: bson.D{{Key: "version", Value: "7.0.0"}}}}, nil
}

// explained is the find that is a command's.
func (s *Server) explained(c *command) (space engine.Space, f engine.Find, err error) {
	if c.name == "find" {
		return s.findOf(c)
	}
	if space, err = c.space(); err != nil {
		return space, f, err
	}
	var r reader
	at := c
	switch c.name {
	case "count", "distinct", "findAndModify":
		f.Filter = r.part(c, "query")
	case "update", "delete":
		list, err := c.list(map[string]string{"update": "updates", "delete": "deletes"}[c.name])
		if err != nil {
			return space, f, err
		}
		at = sub(c.name, list[0])
		f.Filter = r.part(at, "q")
	default:
		return space, f, fault.NotImplemented("explain of %s is not here", c.name)
	}
	f.Collation, f.Hint = r.collation(at), r.hint(s, at, space)
	return space, f, r.err
}
