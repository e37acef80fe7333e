package engine

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// What was answered is known of more sessions than are kept in memory, and forgotten after
// a while.
func TestAnswersAreKeptForAWhile(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "documents.db"))
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	done := 0
	write := func(session string) int {
		answer, err := e.Write(t.Context(), Retry{Session: []byte(session), Number: 1}, func(*Writer) (bson.D, error) {
			done++
			return bson.D{{Key: "n", Value: int32(done)}}, nil
		})
		require.NoError(t, err)
		return int(answer.Lookup("n").Int32())
	}
	assert.Equal(t, 1, write("first"))
	assert.Equal(t, 1, write("first"), "asked again")
	for i := range mostNumbers { // as after as many others
		e.numbers[fmt.Sprint("other", i)] = 1
	}
	assert.Equal(t, 2, write("second"))
	assert.Len(t, e.numbers, 1, "memory is bounded")
	assert.Equal(t, 1, write("first"), "the file knows it")

	_, err = e.db.Exec("UPDATE answers SET at = at - ? WHERE session = ?", sessionLife.Milliseconds()+1000, []byte("first"))
	require.NoError(t, err)
	e.expired = time.Now().Add(-sessionLife)
	assert.Equal(t, 3, write("third"))
	assert.Equal(t, 4, write("first"), "nobody asks again after so long")
	assert.Equal(t, 2, write("second"))
}
