package keep

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
)

// counted is a source that knows whether it was closed.
type counted struct {
	store.Source
	closed atomic.Int32
}

func (c *counted) Close() error {
	c.closed.Add(1)
	return nil
}

// A look stays open while it is used and a while after, and is closed once: when
// nobody has used it for long, when the service has another process, or is stopped.
func TestLooks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l looks
		var made []*counted
		open := func() (store.Source, error) {
			made = append(made, &counted{})
			return made[len(made)-1], nil
		}
		take := func(pid int) *look {
			one, err := l.take("ledger", pid, open)
			require.NoError(t, err)
			return one
		}
		a, b := take(1), take(1)
		assert.Same(t, a, b)
		l.giveBack("ledger", a)
		time.Sleep(2 * lookIdle)
		assert.Zero(t, made[0].closed.Load(), "somebody uses it")
		l.giveBack("ledger", b)
		time.Sleep(lookIdle / 2)
		l.giveBack("ledger", take(1))
		time.Sleep(lookIdle * 3 / 4)
		synctest.Wait()
		assert.Zero(t, made[0].closed.Load())
		time.Sleep(lookIdle)
		synctest.Wait()
		assert.EqualValues(t, 1, made[0].closed.Load())

		c := take(1)
		d := take(2) // another process
		assert.NotSame(t, c, d)
		assert.Zero(t, made[1].closed.Load(), "it is still used")
		l.giveBack("ledger", c)
		assert.EqualValues(t, 1, made[1].closed.Load())
		l.close("ledger")
		assert.Zero(t, made[2].closed.Load())
		l.giveBack("ledger", d)
		assert.EqualValues(t, 1, made[2].closed.Load())
		l.giveBack("ledger", take(2))
		l.close("")
		assert.EqualValues(t, 1, made[3].closed.Load())
		time.Sleep(2 * lookIdle)
		synctest.Wait()
		assert.EqualValues(t, 1, made[3].closed.Load(), "once")
	})
}

// refusing is a source that answers a question with an error.
type refusing struct {
	store.Source
	err error
}

func (r refusing) Language() string { return "SQL" }
func (r refusing) Ask(context.Context, store.Question) (store.Page, error) {
	return store.Page{}, r.err
}

// Refusals are a part of the answer; what else goes wrong is an error.
func TestAskSource(t *testing.T) {
	a, err := AskSource(t.Context(), refusing{err: &store.WritesError{}}, store.Question{})
	require.NoError(t, err)
	assert.True(t, a.Writes)
	a, err = AskSource(t.Context(), refusing{err: &store.AnswerError{Message: "no", At: 3}}, store.Question{})
	require.NoError(t, err)
	assert.Equal(t, "no", a.Refused)
	assert.Equal(t, 3, a.At)
	_, err = AskSource(t.Context(), refusing{err: errors.New("gone")}, store.Question{})
	assert.ErrorContains(t, err, "gone")
	_, err = AskSource(t.Context(), &counted{}, store.Question{})
	assert.ErrorContains(t, err, "no language")
	_, err = ActorOf(&counted{})
	assert.ErrorIs(t, err, store.ErrNoAction)
	_, err = FillSource(t.Context(), &counted{}, "x", "y", true)
	assert.ErrorContains(t, err, "takes no items")
}
