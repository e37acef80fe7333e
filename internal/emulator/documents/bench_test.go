package documents_test

import (
	"context"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// BenchmarkInsert inserts documents one by one, from a pool of connections.
func BenchmarkInsert(b *testing.B) {
	tools := connect(b, serve(b, filepath.Join(b.TempDir(), "x.db"))).Database("shed").Collection("tools")
	var n atomic.Int64
	b.SetParallelism(8)
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			if _, err := tools.InsertOne(context.Background(), tool{ID: int(n.Add(1)), Name: "hammer drill", Price: 129.9, Tags: []string{"power", "wall"}}); err != nil {
				b.Error(err)
			}
		}
	})
}

// BenchmarkFind finds documents by their _id, from a pool of connections.
func BenchmarkFind(b *testing.B) {
	tools := connect(b, serve(b, filepath.Join(b.TempDir(), "x.db"))).Database("shed").Collection("tools")
	var all []tool
	for i := range 10_000 {
		all = append(all, tool{ID: i, Name: "hammer drill"})
	}
	_, err := tools.InsertMany(context.Background(), all)
	require.NoError(b, err)
	var n atomic.Int64
	b.SetParallelism(8)
	b.ResetTimer()
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			if err := tools.FindOne(context.Background(), bson.D{{Key: "_id", Value: int(n.Add(1)) % len(all)}}).Err(); err != nil {
				b.Error(err)
			}
		}
	})
}
