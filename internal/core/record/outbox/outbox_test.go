package outbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"neighbour/internal/testkit"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m, goleak.IgnoreCurrent()) }

func opened(t *testing.T, path string) *Box {
	b, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = b.Close() })
	return b
}

// running runs a sender until the returned function is called.
func running(t *testing.T, b *Box, name string, c Config) (stop func()) {
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- b.Run(ctx, name, c) }()
	once := sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	t.Cleanup(once)
	return once
}

// seen notes which events arrived, by key.
type seen struct {
	mu  sync.Mutex
	all map[string][]int
}

func (s *seen) add(d Delivery) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var n int
	_ = json.Unmarshal(d.Data, &n)
	s.all[d.Key] = append(s.all[d.Key], n)
}

func event(i int) Event {
	return Event{Source: fmt.Sprint(i), Key: fmt.Sprint(i % 7), Type: "insert", Subject: "loans", Data: json.RawMessage(fmt.Sprint(i))}
}

// inOrder asserts that each event of a key arrived, and none before one that came before it
// had: what is sent again after a kill begins with one that had arrived.
func inOrder(t *testing.T, s *seen, n int) {
	t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	got := 0
	for key, all := range s.all {
		most, first := -1, map[int]bool{}
		for _, i := range all {
			if !first[i] {
				first[i] = true
				got++
				assert.Greater(t, i, most, "key %s: %v", key, all)
				most = i
			}
		}
	}
	assert.Equal(t, n, got, "each arrives")
}

// Whenever whoever sends is killed, and however many tries fail, each event arrives, those of
// a key in their order.
func TestArrives(t *testing.T) {
	const events = 700
	s := &seen{all: map[string][]int{}}
	path := filepath.Join(t.TempDir(), "box")
	var settled, failing atomic.Int64
	config := Config{AtOnce: 5, Tries: 1000, Wait: time.Millisecond, MostWait: 2 * time.Millisecond, Send: func(_ context.Context, d Delivery) Outcome {
		if rand.IntN(8) == 0 {
			failing.Add(1)
			return Outcome{Problem: "refused"}
		}
		s.add(d)
		return Outcome{Status: 202}
	}, Note: func(d Delivery) {
		if d.State == Done {
			settled.Add(1)
		}
	}}
	added := 0
	for round := range 12 {
		b, err := Open(path)
		require.NoError(t, err)
		cursor, err := b.Cursor("reindex")
		require.NoError(t, err)
		if cursor != "" {
			_, _ = fmt.Sscan(cursor, &added)
		}
		stop := running(t, b, "reindex", config)
		for added < events && (round == 11 || rand.IntN(12) > 0) {
			var some []Event
			for range 1 + rand.IntN(20) {
				if added < events {
					some = append(some, event(added))
					added++
				}
			}
			require.NoError(t, b.Add(t.Context(), "reindex", append(some, some[0]), fmt.Sprint(added)))
			for range rand.IntN(100) { // for some to be sent meanwhile
				runtime.Gosched()
			}
		}
		// What a killed process leaves: the files as they are at some moment.
		killed := filepath.Join(t.TempDir(), "box")
		for _, ending := range []string{"-wal", ""} {
			if text, err := os.ReadFile(path + ending); err == nil {
				require.NoError(t, os.WriteFile(killed+ending, text, 0o600))
			}
		}
		if round == 11 {
			require.Eventually(t, func() bool {
				sum, err := b.Summary("reindex")
				return err == nil && sum.Waiting == 0
			}, testkit.Patience, time.Millisecond)
			killed = path
		}
		stop()
		require.NoError(t, b.Close())
		path = killed
	}
	assert.Positive(t, failing.Load())
	inOrder(t, s, events)
}

// What is refused too often is put aside and holds up nothing; somebody decides.
func TestPutAside(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "box"))
	s := &seen{all: map[string][]int{}}
	var well atomic.Bool
	var tries atomic.Int32
	stop := running(t, b, "mail", Config{Tries: 3, Wait: time.Millisecond, Send: func(_ context.Context, d Delivery) Outcome {
		switch {
		case string(d.Data) == "1" && !well.Load():
			tries.Add(1)
			return Outcome{Status: 503, Problem: "answered 503", Answer: make([]byte, 2*answerLimit)}
		case string(d.Data) == "2" && !well.Load():
			return Outcome{Problem: "it can't be sent", Never: true}
		}
		s.add(d)
		return Outcome{Status: 200, Answer: []byte("well")}
	}})
	for i := range 4 {
		require.NoError(t, b.Add(t.Context(), "mail", []Event{{Key: "a", Type: "x", Data: json.RawMessage(fmt.Sprint(i))}}, ""))
	}
	until := func(want Summary) {
		t.Helper()
		require.Eventually(t, func() bool {
			sum, err := b.Summary("mail")
			sum.Last, sum.Problem = time.Time{}, ""
			return err == nil && sum == want
		}, testkit.Patience, time.Millisecond)
	}
	until(Summary{Aside: 2, Done: 2})
	assert.EqualValues(t, 3, tries.Load())
	aside, err := b.List("", false, 0, 10)
	require.NoError(t, err)
	require.Len(t, aside, 2)
	assert.Equal(t, "answered 503", aside[1].Problem)
	assert.Equal(t, 3, aside[1].Tries)
	assert.EqualValues(t, answerLimit, aside[1].AnswerSize)
	assert.Nil(t, aside[1].Answer, "a list has no answers")
	assert.Equal(t, "aside", aside[1].State.String())
	well.Store(true)
	id, err := b.Retry(t.Context(), aside[1].ID, "neighbour")
	require.NoError(t, err)
	assert.Equal(t, aside[1].ID, id, "it is the same event")
	require.NoError(t, b.Drop(aside[0].ID))
	until(Summary{Done: 3})
	again, err := b.Retry(t.Context(), id, "neighbour")
	require.NoError(t, err)
	assert.Greater(t, again, id, "what has arrived becomes another")
	until(Summary{Done: 4})
	d, err := b.Get(again)
	require.NoError(t, err)
	assert.Equal(t, "neighbour", d.By)
	assert.Equal(t, map[string][]int{"a": {0, 3, 1, 1}}, s.all)
	_, err = b.Retry(t.Context(), 999, "")
	assert.ErrorIs(t, err, ErrNone)

	// Paused, nothing goes; it stays so when it is opened again.
	require.NoError(t, b.Pause("mail", "as told"))
	_, err = b.Fire(t.Context(), "mail", "me", Event{Key: "b", Data: json.RawMessage("9")})
	require.NoError(t, err)
	// Another's runs meanwhile, and comes to its end.
	_, err = b.Fire(t.Context(), "other", "me", Event{Key: "b", Data: json.RawMessage("9")})
	require.NoError(t, err)
	arrived := make(chan struct{})
	running(t, b, "other", Config{Send: func(context.Context, Delivery) Outcome {
		close(arrived)
		return Outcome{}
	}})
	<-arrived
	sum, err := b.Summary("mail")
	require.NoError(t, err)
	assert.Equal(t, 1, sum.Waiting)
	assert.Equal(t, "as told", sum.Paused)
	require.NoError(t, b.Pause("mail", ""))
	until(Summary{Done: 5})
	stop()
	// An end in the midst of a try is not the event's fault.
	begun := make(chan struct{})
	stop = running(t, b, "mail", Config{Tries: 1, Send: func(ctx context.Context, _ Delivery) Outcome {
		close(begun)
		<-ctx.Done()
		return Outcome{Problem: errors.New("cut off").Error()}
	}})
	_, err = b.Fire(t.Context(), "mail", "me", Event{Data: json.RawMessage("10")})
	require.NoError(t, err)
	<-begun
	stop()
	until(Summary{Waiting: 1, Done: 5})
	// What could not be written down is sent once that can be done.
	begun = make(chan struct{}, 9)
	ended := make(chan error, 1)
	go func() {
		ended <- b.Run(t.Context(), "mail", Config{Wait: time.Millisecond, Send: func(context.Context, Delivery) Outcome {
			_, err := b.db.Exec("ALTER TABLE event RENAME TO away")
			assert.NoError(t, err)
			return Outcome{}
		}})
	}()
	require.Error(t, <-ended)
	_, err = b.db.Exec("ALTER TABLE away RENAME TO event")
	require.NoError(t, err)
	running(t, b, "mail", Config{Send: func(context.Context, Delivery) Outcome { return Outcome{} }})
	until(Summary{Done: 6})
}

// However much comes, what waits and what is kept stays within bounds; what isn't ready waits.
func TestBounds(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "box"))
	b.most = 3000
	var some []Event
	for i := range b.most {
		some = append(some, Event{Key: fmt.Sprint(i), Data: json.RawMessage("1")})
	}
	require.NoError(t, b.Add(t.Context(), "much", some, "1"))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, b.Add(ctx, "much", some[:1], "2"), context.DeadlineExceeded, "it waits for room")
	cursor, err := b.Cursor("much")
	require.NoError(t, err)
	assert.Equal(t, "1", cursor)
	var ready atomic.Bool
	var sent atomic.Int64
	asked := make(chan struct{}, 1)
	running(t, b, "much", Config{AtOnce: 64, Ready: func() bool {
		select {
		case asked <- struct{}{}:
		default:
		}
		return ready.Load()
	}, Send: func(context.Context, Delivery) Outcome {
		sent.Add(1)
		return Outcome{}
	}})
	for range 3 {
		<-asked
	}
	assert.Zero(t, sent.Load())
	ready.Store(true)
	require.NoError(t, b.Add(t.Context(), "much", some[:1], "2"), "there is room now")
	require.Eventually(t, func() bool { return sent.Load() > 2500 }, testkit.Patience, time.Millisecond)
	all, err := b.List("much", true, 0, 1<<20)
	require.NoError(t, err)
	done := 0
	for _, d := range all {
		if d.State == Done {
			done++
		}
	}
	assert.LessOrEqual(t, done, mostDone+mostDone/10+64)

	// What was put aside takes room, too, also after a restart, and so do bytes.
	path := filepath.Join(t.TempDir(), "box")
	b, err = Open(path)
	require.NoError(t, err)
	b.most, b.size = 5, 1000
	stop := running(t, b, "aside", Config{Tries: 1, Send: func(context.Context, Delivery) Outcome { return Outcome{Problem: "gone"} }})
	require.NoError(t, b.Add(t.Context(), "aside", some[:5], "1"))
	require.Eventually(t, func() bool {
		sum, err := b.Summary("aside")
		return err == nil && sum.Aside == 5 && sum.Full
	}, testkit.Patience, time.Millisecond)
	stop()
	require.NoError(t, b.Close())
	b = opened(t, path)
	b.most, b.size = 5, 1000
	_, err = b.Fire(t.Context(), "aside", "me", some[0])
	require.ErrorIs(t, err, ErrFull)
	all, err = b.List("aside", true, 0, 10)
	require.NoError(t, err)
	require.NoError(t, b.Drop(all[0].ID))
	_, err = b.Fire(t.Context(), "aside", "me", some[0])
	require.NoError(t, err)
	large := Event{Data: json.RawMessage(`"` + strings.Repeat("x", 1000) + `"`)}
	require.NoError(t, b.Add(t.Context(), "large", []Event{large}, ""))
	_, err = b.Fire(t.Context(), "large", "me", large)
	require.ErrorIs(t, err, ErrFull)

	// So do those that have arrived.
	b.size, b.done = mostHeldBytes, 10_000
	running(t, b, "arrived", Config{Send: func(context.Context, Delivery) Outcome { return Outcome{} }})
	for i := range 50 {
		_, err := b.Fire(t.Context(), "arrived", "me", large)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			all, err := b.List("arrived", true, 0, 100)
			return err == nil && len(all) > 0 && all[0].State == Done && len(all) <= 13
		}, testkit.Patience, time.Millisecond, "%d", i)
	}

	path = filepath.Join(t.TempDir(), "damaged")
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and never was one"), 0o600))
	_, err = Open(path)
	assert.ErrorContains(t, err, "move it away")
}
