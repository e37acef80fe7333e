package documents_test

import (
	"context"
	"errors"
	"log"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/documents"
)

// The server misbehaves in the protocol's own words, to others than Neighbour itself.
func TestMisbehaviour(t *testing.T) {
	ctx := context.Background()
	rules := misbehave.Follow("", log.New(&said, "", 0))
	address := serveWith(t, filepath.Join(t.TempDir(), "x.db"), documents.Account{}, rules)
	client, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + address + "/?retryReads=false&retryWrites=false"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = client.Disconnect(ctx) })
	own, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + address).SetAppName(documents.OwnClient))
	require.NoError(t, err)
	t.Cleanup(func() { _ = own.Disconnect(ctx) })
	tools := client.Database("shed").Collection("tools")
	write := func() error { _, err := tools.InsertOne(ctx, bson.D{{Key: "a", Value: 1}}); return err }
	read := func() error { _, err := tools.CountDocuments(ctx, bson.D{{Key: "a", Value: 1}}); return err }
	require.NoError(t, write())
	for _, c := range []struct {
		rules       misbehave.Rules
		code        int
		writes, all bool // what fails
	}{
		{misbehave.Rules{Errors: 100}, 8, true, true},
		{misbehave.Rules{Throttled: 100}, 462, true, true},
		{misbehave.Rules{Full: true}, 14031, true, false},
		{misbehave.Rules{ReadOnly: true}, 13, true, false},
		{misbehave.Rules{Cut: 100}, 0, true, true},
	} {
		require.NoError(t, rules.Set(c.rules))
		for fails, do := range map[bool]func() error{c.writes: write, c.all: read} {
			if c.writes == c.all {
				do = write
			}
			err := do()
			if !fails {
				assert.NoError(t, err, c.rules.InWords())
				continue
			}
			var answer mongo.ServerError
			if c.code == 0 {
				assert.True(t, mongo.IsNetworkError(err), err)
			} else if assert.True(t, errors.As(err, &answer), err) {
				assert.True(t, answer.HasErrorCode(c.code), err)
			}
		}
		_, err := own.Database("shed").Collection("tools").CountDocuments(ctx, bson.D{})
		assert.NoError(t, err, "it behaves to its own client")
		assert.NoError(t, client.Ping(ctx, nil))
	}
	require.NoError(t, rules.Set(misbehave.Rules{Slow: 120 * time.Millisecond, Clock: time.Hour}))
	began := time.Now()
	cursor, err := tools.Aggregate(ctx, mongo.Pipeline{{{Key: "$limit", Value: 1}}, {{Key: "$project", Value: bson.D{{Key: "now", Value: "$$NOW"}}}}})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, time.Since(began), 120*time.Millisecond)
	require.True(t, cursor.Next(ctx))
	assert.Greater(t, cursor.Current.Lookup("now").Time().Sub(began), 59*time.Minute)
}

// Whoever doesn't know the password learns nothing.
func TestPassword(t *testing.T) {
	ctx := context.Background()
	address := serveWith(t, filepath.Join(t.TempDir(), "x.db"), documents.Account{User: "app", Password: "a/b:c@d é"}, nil)
	open := func(user, password string) *mongo.Client {
		o := options.Client().ApplyURI("mongodb://" + address + "/?serverSelectionTimeoutMS=20000")
		if user != "" {
			o.SetAuth(options.Credential{Username: user, Password: password})
		}
		c, err := mongo.Connect(o)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Disconnect(ctx) })
		return c
	}
	_, err := open("app", "a/b:c@d é").Database("shed").Collection("tools").InsertOne(ctx, bson.D{})
	require.NoError(t, err)
	for _, c := range [][2]string{{"app", "wrong"}, {"other", "a/b:c@d é"}} {
		assert.ErrorContains(t, open(c[0], c[1]).Database("shed").Collection("tools").FindOne(ctx, bson.D{}).Err(), "Authentication failed", c)
	}
	err = open("", "").Database("shed").Collection("tools").FindOne(ctx, bson.D{}).Err()
	var answer mongo.ServerError
	require.ErrorAs(t, err, &answer)
	assert.True(t, answer.HasErrorCode(13), err)
}
