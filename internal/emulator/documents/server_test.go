package documents_test

import (
	"bytes"
	"context"
	"fmt"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/documents"
	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/value"
	"neighbour/internal/emulator/documents/wire"
)

// serve begins a server of a file, and returns its address.
func serve(t testing.TB, file string) string { return serveWith(t, file, documents.Account{}, nil) }

// serveWith begins one with an account and rules.
func serveWith(t testing.TB, file string, account documents.Account, rules *misbehave.Follower) string {
	e, err := engine.Open(file)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	s, err := documents.NewServer(e, log.New(&said, "", 0), account, rules)
	require.NoError(t, err)
	go func() { done <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
		assert.NoError(t, e.Close())
	})
	return l.Addr().String()
}

// said is what servers log.
var said lockedBuffer

type lockedBuffer struct {
	mu sync.Mutex
	bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.Write(p)
}

func connect(t testing.TB, address string) *mongo.Client {
	c, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + address + "/?serverSelectionTimeoutMS=20000"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Disconnect(context.Background()) })
	return c
}

type tool struct {
	ID    int      `bson:"_id"`
	Name  string   `bson:"name"`
	Price float64  `bson:"price,omitempty"`
	Tags  []string `bson:"tags,omitempty"`
}

// An ordinary client of the protocol does what it does with any server.
func TestClient(t *testing.T) {
	client := connect(t, serve(t, filepath.Join(t.TempDir(), "shed.db")))
	ctx := context.Background()
	require.NoError(t, client.Ping(ctx, nil))
	db := client.Database("shed")
	tools := db.Collection("tools")

	made, err := tools.InsertMany(ctx, []tool{{1, "drill", 129.9, []string{"power", "wall"}}, {2, "ladder", 189, nil}, {3, "saw", 0, []string{"wood"}}})
	require.NoError(t, err)
	assert.Len(t, made.InsertedIDs, 3)
	_, err = tools.InsertOne(ctx, tool{ID: 2, Name: "other"})
	assert.True(t, mongo.IsDuplicateKeyError(err), err)
	_, err = tools.InsertMany(ctx, []tool{{4, "level", 20, nil}, {1, "x", 0, nil}, {5, "file", 9, nil}}, options.InsertMany().SetOrdered(false))
	var several mongo.BulkWriteException
	require.ErrorAs(t, err, &several)
	require.Len(t, several.WriteErrors, 1)
	assert.Equal(t, 1, several.WriteErrors[0].Index)

	names := func(filter any, o ...options.Lister[options.FindOptions]) string {
		cursor, err := tools.Find(ctx, filter, o...)
		require.NoError(t, err)
		var all []tool
		require.NoError(t, cursor.All(ctx, &all))
		var out []string
		for _, a := range all {
			out = append(out, a.Name)
		}
		return strings.Join(out, " ")
	}
	assert.Equal(t, "drill ladder saw level file", names(bson.D{}))
	assert.Equal(t, "drill ladder saw level file", names(bson.D{}, options.Find().SetBatchSize(2)), "in several answers")
	assert.Equal(t, "ladder drill", names(bson.M{"price": bson.M{"$gt": 100}}, options.Find().SetSort(bson.D{{Key: "price", Value: -1}})))
	assert.Equal(t, "level", names(bson.D{}, options.Find().SetSort(bson.D{{Key: "name", Value: 1}}).SetSkip(3).SetLimit(1)))
	var one tool
	require.NoError(t, tools.FindOne(ctx, bson.M{"tags": "wood"}).Decode(&one))
	assert.Equal(t, tool{3, "saw", 0, []string{"wood"}}, one)
	assert.ErrorIs(t, tools.FindOne(ctx, bson.M{"_id": 99}).Err(), mongo.ErrNoDocuments)

	done, err := tools.UpdateMany(ctx, bson.M{"price": bson.M{"$exists": true}}, bson.M{"$inc": bson.M{"price": 1}, "$push": bson.M{"tags": "dear"}})
	require.NoError(t, err)
	assert.Equal(t, [2]int64{4, 4}, [2]int64{done.MatchedCount, done.ModifiedCount})
	done, err = tools.UpdateOne(ctx, bson.M{"_id": 9}, bson.M{"$set": bson.M{"name": "vice"}}, options.UpdateOne().SetUpsert(true))
	require.NoError(t, err)
	assert.Equal(t, int64(1), done.UpsertedCount)
	assert.Equal(t, int32(9), done.UpsertedID)
	_, err = tools.ReplaceOne(ctx, bson.M{"_id": 9}, tool{ID: 9, Name: "bench vice"})
	require.NoError(t, err)
	_, err = tools.UpdateOne(ctx, bson.M{"_id": 9}, bson.M{"$inc": bson.M{"name": 1}})
	assert.ErrorContains(t, err, "non-numeric type")
	written, err := tools.BulkWrite(ctx, []mongo.WriteModel{mongo.NewInsertOneModel().SetDocument(tool{ID: 20, Name: "a"}), mongo.NewUpdateOneModel().SetFilter(bson.M{"_id": 20}).SetUpdate(bson.M{"$set": bson.M{"name": "b"}}), mongo.NewDeleteOneModel().SetFilter(bson.M{"_id": 20})})
	require.NoError(t, err)
	assert.Equal(t, [3]int64{1, 1, 1}, [3]int64{written.InsertedCount, written.ModifiedCount, written.DeletedCount})

	// One is found and changed at once.
	var found bson.M
	require.NoError(t, tools.FindOneAndUpdate(ctx, bson.M{"price": bson.M{"$gt": 0}}, bson.M{"$set": bson.M{"lent": true}}, options.FindOneAndUpdate().SetSort(bson.M{"price": -1}).SetProjection(bson.M{"name": 1})).Decode(&found))
	assert.Equal(t, bson.M{"_id": int32(2), "name": "ladder"}, found)
	require.NoError(t, tools.FindOneAndUpdate(ctx, bson.M{"lent": true}, bson.M{"$inc": bson.M{"times": 1}}, options.FindOneAndUpdate().SetReturnDocument(options.After).SetProjection(bson.M{"times": 1, "_id": 0})).Decode(&found))
	assert.Equal(t, int32(1), found["times"])
	found = nil
	require.NoError(t, tools.FindOneAndUpdate(ctx, bson.M{"_id": 30}, bson.M{"$set": bson.M{"name": "new"}}, options.FindOneAndUpdate().SetUpsert(true).SetReturnDocument(options.After)).Decode(&found))
	assert.Equal(t, bson.M{"_id": int32(30), "name": "new"}, found)
	require.NoError(t, tools.FindOneAndReplace(ctx, bson.M{"_id": 30}, bson.M{"name": "newer"}).Decode(&found))
	assert.Equal(t, "new", found["name"])
	require.NoError(t, tools.FindOneAndDelete(ctx, bson.M{"_id": 30}).Decode(&found))
	assert.Equal(t, "newer", found["name"])
	assert.ErrorIs(t, tools.FindOneAndDelete(ctx, bson.M{"_id": 30}).Err(), mongo.ErrNoDocuments)

	gone, err := tools.DeleteMany(ctx, bson.M{"tags": "dear"})
	require.NoError(t, err)
	assert.Equal(t, int64(4), gone.DeletedCount)
	n, err := tools.EstimatedDocumentCount(ctx)
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	var distinct []string
	require.NoError(t, tools.Distinct(ctx, "name", bson.D{}).Decode(&distinct))
	assert.Equal(t, []string{"saw", "bench vice"}, distinct)

	collections, err := db.ListCollectionNames(ctx, bson.M{"name": bson.M{"$regex": "^t"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"tools"}, collections)
	databases, err := client.ListDatabaseNames(ctx, bson.D{})
	require.NoError(t, err)
	assert.Equal(t, []string{"shed"}, databases)
	require.NoError(t, db.Drop(ctx))
	assert.Empty(t, names(bson.D{}))
}

// What isn't here is an error that names it: never a wrong answer.
func TestWhatIsNotHere(t *testing.T) {
	client := connect(t, serve(t, filepath.Join(t.TempDir(), "shed.db")))
	ctx := context.Background()
	tools := client.Database("shed").Collection("tools")
	_, err := tools.InsertOne(ctx, tool{ID: 1})
	require.NoError(t, err)
	for says, do := range map[string]func() error{
		"no such command: 'mapReduce'": func() error {
			return client.Database("shed").RunCommand(ctx, bson.D{{Key: "mapReduce", Value: "tools"}}).Err()
		},
		"the stage $graphLookup is not here": func() error {
			_, err := tools.Aggregate(ctx, mongo.Pipeline{{{Key: "$graphLookup", Value: bson.M{}}}})
			return err
		},
		"caseLevel of a collation is not here": func() error {
			return tools.FindOne(ctx, bson.D{}, options.FindOne().SetCollation(&options.Collation{Locale: "de", CaseLevel: true})).Err()
		},
		"$where is not here": func() error { return tools.FindOne(ctx, bson.M{"$where": "1"}).Err() },
		"$group is not allowed here": func() error {
			_, err := tools.UpdateOne(ctx, bson.D{}, mongo.Pipeline{{{Key: "$group", Value: bson.M{"_id": 1}}}})
			return err
		},
		"validator of create is not here": func() error {
			return client.Database("shed").CreateCollection(ctx, "x", options.CreateCollection().SetValidator(bson.M{"a": 1}))
		},
		"'find.foo' is an unknown field": func() error {
			return client.Database("shed").RunCommand(ctx, bson.D{{Key: "find", Value: "x"}, {Key: "foo", Value: 1}}).Err()
		},
		"cursor id 77 not found": func() error {
			return client.Database("shed").RunCommand(ctx, bson.D{{Key: "getMore", Value: int64(77)}, {Key: "collection", Value: "x"}}).Err()
		},
		"Invalid collection name: shed.$x": func() error { _, err := client.Database("shed").Collection("$x").InsertOne(ctx, bson.D{}); return err },
		"is the wrong type 'string'": func() error {
			return client.Database("shed").RunCommand(ctx, bson.D{{Key: "find", Value: "x"}, {Key: "limit", Value: "1"}}).Err()
		},
	} {
		err := do()
		require.Error(t, err, says)
		assert.Contains(t, err.Error(), says)
	}
	assert.NoError(t, client.Ping(ctx, nil))
}

// A client that sends no messages loses its connection; the others go on.
func TestHostileClients(t *testing.T) {
	address := serve(t, filepath.Join(t.TempDir(), "shed.db"))
	client := connect(t, address)
	for _, text := range []string{"GET / HTTP/1.1\r\nHost: x\r\n\r\n", strings.Repeat("\x00", 16), "\x10\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\xdd\x07\x00\x00", strings.Repeat("\xff", 1000)} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, err = conn.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
		_, err = conn.Read(make([]byte, 1))
		assert.Error(t, err, "%q", text)
		conn.Close()
	}
	assert.NoError(t, client.Ping(context.Background(), nil))
}

// A document that is too large, too deep, or wrong in its length is answered with an error,
// and the connection goes on.
func TestBadDocuments(t *testing.T) {
	address := serve(t, filepath.Join(t.TempDir(), "shed.db"))
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	deep := bson.D{}
	for range 250 {
		deep = bson.D{{Key: "a", Value: deep}}
	}
	wrong, err := bson.Marshal(bson.D{{Key: "a", Value: "text"}})
	require.NoError(t, err)
	wrong[7] = 99 // the text's length
	for name, d := range map[string]any{"17 MB": bson.D{{Key: "x", Value: strings.Repeat("x", 17<<20)}}, "deep": deep, "length": bson.Raw(wrong)} {
		inner, is := d.(bson.Raw)
		if !is {
			inner, err = bson.Marshal(d)
			require.NoError(t, err)
		}
		db := value.Named{Name: "$db", Value: value.Of("shed")}
		for command, question := range map[string]bson.Raw{
			"insert": value.Document(value.Named{Name: "insert", Value: value.Of("tools")}, value.Named{Name: "documents", Value: value.Array([]bson.RawValue{value.OfDocument(inner)})}, db),
			"ping":   value.Document(value.Named{Name: "ping", Value: value.Of(int32(1))}, db),
		} {
			require.NoError(t, wire.Write(conn, 1, &wire.Request{}, question), name)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
			answer, err := wire.Read(conn)
			require.NoError(t, err, name)
			refused := answer.Command.Lookup("ok").Double() == 0 || len(answer.Command.Lookup("writeErrors").Value) > 0
			assert.Equal(t, command == "insert", refused, "%s: %s", name, answer.Command)
		}
	}
}

// What joins make may be too large for an answer, but not for the next stage.
func TestTooLargeAnswers(t *testing.T) {
	c := connect(t, serve(t, filepath.Join(t.TempDir(), "shed.db")))
	tools, ctx := c.Database("shed").Collection("tools"), t.Context()
	for range 9 {
		_, err := tools.InsertOne(ctx, bson.D{{Key: "x", Value: strings.Repeat("x", 2<<20)}})
		require.NoError(t, err)
	}
	join := bson.D{{Key: "$lookup", Value: bson.D{{Key: "from", Value: "tools"}, {Key: "pipeline", Value: bson.A{}}, {Key: "as", Value: "all"}}}}
	one := bson.D{{Key: "$limit", Value: 1}}
	_, err := tools.Aggregate(ctx, mongo.Pipeline{one, join})
	var refused mongo.CommandError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "BSONObjectTooLarge", refused.Name)
	cursor, err := tools.Aggregate(ctx, mongo.Pipeline{one, join, {{Key: "$unwind", Value: "$all"}}, {{Key: "$count", Value: "n"}}})
	require.NoError(t, err)
	require.True(t, cursor.Next(ctx))
	assert.EqualValues(t, 9, cursor.Current.Lookup("n").Int32())
}

// server is the environment variable that makes the test a server of a file.
const server = "NEIGHBOUR_DOCUMENTS"

func TestMain(m *testing.M) {
	file := os.Getenv(server)
	if file == "" {
		os.Exit(m.Run())
	}
	e, err := engine.Open(file)
	if err != nil {
		log.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(l.Addr())
	s, err := documents.NewServer(e, log.Default(), documents.Account{}, nil)
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(s.Serve(context.Background(), l))
}

// Killed at any moment, no write that was answered is lost, and none is there by half.
func TestKilled(t *testing.T) {
	file := filepath.Join(t.TempDir(), "shed.db")
	answered := map[int]bool{} // by the first of a pair
	next := 0
	for range 50 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), server+"="+file)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		var address string
		_, err = fmt.Fscanln(out, &address)
		require.NoError(t, err)
		patient, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + address))
		require.NoError(t, err)
		all, err := patient.Database("shed").Collection("pairs").Distinct(context.Background(), "_id", bson.D{}).Raw()
		require.NoError(t, err)
		require.NoError(t, patient.Disconnect(context.Background()))
		// Those who write give up soon after it was killed.
		client, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + address + "/?retryWrites=false&serverSelectionTimeoutMS=300"))
		require.NoError(t, err)
		pairs := client.Database("shed").Collection("pairs")
		there := map[int]bool{}
		values, err := all.Values()
		require.NoError(t, err)
		for _, v := range values {
			there[int(v.AsInt64())] = true
		}
		for id := range answered {
			require.True(t, there[id] && there[id+1], "%d was answered, and is lost", id)
		}
		for id := range there {
			require.True(t, there[id^1], "%d is there without its other half", id)
		}

		var writers sync.WaitGroup
		var mu sync.Mutex
		begun := next
		stop := time.AfterFunc(time.Duration(20+next%7*15)*time.Millisecond, func() { _ = cmd.Process.Kill() })
		for range 4 {
			writers.Go(func() {
				for {
					mu.Lock()
					id := next
					next += 2
					mu.Unlock()
					_, err := pairs.InsertMany(context.Background(), []bson.D{{{Key: "_id", Value: id}}, {{Key: "_id", Value: id + 1}}})
					if err != nil {
						return
					}
					mu.Lock()
					answered[id] = true
					mu.Unlock()
				}
			})
		}
		writers.Wait()
		stop.Stop()
		_ = cmd.Wait()
		_ = client.Disconnect(context.Background())
		assert.Greater(t, next, begun)
	}
	t.Logf("%d inserts were answered", len(answered))
	assert.NotEmpty(t, answered)
}
