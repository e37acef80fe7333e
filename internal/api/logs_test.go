package api

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/record/journal"
)

// What a client asks for is what the keeper reads.
func TestLogQueriesRoundTrip(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		name := rapid.StringMatching(`[a-z][a-z0-9-]{0,8}`)
		place := rapid.Custom(func(r *rapid.T) journal.Place {
			return journal.Place{Seen: rapid.Int64Range(1, 1<<50).Draw(r, "seen"), Log: name.Draw(r, "log"), Offset: rapid.Int64Range(0, 1<<40).Draw(r, "offset")}
		})
		q := LogQuery{
			Services: rapid.SliceOfN(name, 0, 3).Draw(r, "services"), Events: rapid.Bool().Draw(r, "events"), Event: rapid.SampledFrom([]string{"", "start"}).Draw(r, "event"),
			Level: rapid.SampledFrom([]journal.Level{journal.None, journal.Warn}).Draw(r, "level"), Patterns: rapid.SliceOfN(rapid.StringMatching(`[ -~é]{1,9}`), 0, 2).Draw(r, "patterns"),
			From: place.Draw(r, "from"), Before: place.Draw(r, "before"), N: rapid.IntRange(1, 10_000).Draw(r, "n"), Oldest: rapid.Bool().Draw(r, "oldest"),
		}
		v, err := url.ParseQuery(q.values().Encode())
		require.NoError(r, err)
		got, err := readLogQuery(v)
		if err != nil {
			assert.ErrorContains(r, err, "is not a regular expression")
			return
		}
		assert.ElementsMatch(r, q.Services, got.Services)
		assert.Len(r, got.Patterns, len(q.Patterns))
		assert.Equal(r, []any{q.Events, q.Event, q.Level, q.From, q.Before, q.N, q.Oldest}, []any{got.Events, got.Event, got.Level, got.From, got.Before, got.N, got.Oldest})
	})
}

// A count tells how far it has come, and ends with its client.
func TestCountOfALongLog(t *testing.T) {
	c, p := serve(t, two)
	var b strings.Builder
	for i := range 400_000 {
		fmt.Fprintf(&b, "entry %06d of the shed, long enough to make many parts of a log of it, one after another\n", i)
	}
	require.NoError(t, os.WriteFile(p.LogFile("base"), []byte(b.String()), 0o600))
	var steps []int64
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	count, err := c.CountLogs(ctx, LogQuery{Services: []string{"base"}, Patterns: []string{"entry"}}, func(c journal.Count) { steps = append(steps, c.Entries) })
	require.NoError(t, err)
	assert.Equal(t, int64(400_000), count.Entries)
	assert.Greater(t, len(steps), 2)
	assert.IsNonDecreasing(t, steps)
	_, err = c.CountLogs(ctx, LogQuery{Patterns: []string{"entry"}}, func(journal.Count) { cancel() })
	assert.True(t, errors.Is(err, context.Canceled) || err == nil, "%v", err)
	again, err := c.Logs(t.Context(), LogQuery{Services: []string{"base"}, N: 1})
	require.NoError(t, err)
	assert.Contains(t, again.Entries[0].Text, "entry 399999", "the keeper goes on")
}
