package keep

import (
	"context"
	"neighbour/internal/core/keeper/supervise"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func (w *world) operation(id int) Operation {
	for _, o := range w.keeper.Operations() {
		if o.ID == id {
			return o
		}
	}
	return Operation{}
}

// A start is under way until its services are ready, and says how far it is.
// Two that touch none of the same go on at once; others wait for each other.
func TestOperations(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger", "shelf"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter = 5 * time.Second
		_, err := w.keeper.Start(AskedBy(t.Context(), "neighbour start"), false, "api")
		require.NoError(t, err)
		_, err = w.keeper.Start(t.Context(), false, "shelf")
		require.NoError(t, err)
		after(time.Second)
		first := w.operation(1)
		assert.Equal(t, OperationRuns, first.State)
		assert.Equal(t, "neighbour start", first.By)
		assert.Equal(t, []string{"ledger", "api"}, first.Services)
		assert.Equal(t, OperationDone, w.operation(2).State, "the other's services were ready at once")
		after(20 * time.Second)
		assert.Equal(t, OperationDone, w.operation(1).State)
		assert.Equal(t, 2, w.operation(1).Ready)

		// One waits for another that has its service; a client that is gone by
		// then is not obeyed.
		op, err := w.keeper.ops.begin(t.Context(), Edit, "", []string{"shelf"})
		require.NoError(t, err)
		gone, cancel := context.WithCancel(t.Context())
		stopped := make(chan error, 2)
		go func() {
			_, err := w.keeper.Stop(gone, "shelf")
			stopped <- err
		}()
		after(time.Second)
		assert.Equal(t, OperationWaits, w.operation(4).State)
		assert.Contains(t, w.operation(4).Reason, "for edit shelf")
		_, err = w.keeper.Stop(t.Context(), "ledger")
		require.NoError(t, err, "which has nothing to do with it")
		cancel()
		assert.ErrorIs(t, <-stopped, context.Canceled)
		w.keeper.ops.finish(op, nil)
		after(time.Second)
		assert.Equal(t, supervise.Ready, w.status("shelf").State, "nothing was stopped later")
		assert.Equal(t, OperationCancelled, w.operation(4).State)
	})
}

// A stop ends a start of the same that is under way; a start that comes during
// a stop comes after it.
func TestStopDuringAStart(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter = 50 * time.Second
		_, _ = w.keeper.Start(t.Context(), false)
		after(time.Second)
		_, err := w.keeper.Stop(AskedBy(t.Context(), "neighbour stop"))
		require.NoError(t, err)
		assert.Equal(t, OperationCancelled, w.operation(1).State)
		assert.Contains(t, w.operation(1).Reason, "(neighbour stop)")
		assert.Equal(t, OperationDone, w.operation(2).State)
		assert.Equal(t, supervise.Stopped, w.status("ledger").State)
	})
}

// A cancelled start stops what isn't ready yet, and leaves the rest.
func TestCancel(t *testing.T) {
	inWorld(t, []string{"ledger", "shelf", "api: ledger"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter = 50 * time.Second
		_, _ = w.keeper.Start(t.Context(), false)
		after(time.Second)
		require.NoError(t, w.keeper.CancelOperation(AskedBy(t.Context(), "neighbour operations"), 1))
		assert.Equal(t, supervise.Stopped, w.status("ledger").State)
		assert.Equal(t, supervise.Stopped, w.status("api").State)
		assert.Equal(t, supervise.Ready, w.status("shelf").State)
		o := w.operation(1)
		assert.Equal(t, OperationCancelled, o.State)
		assert.Equal(t, "by neighbour operations", o.Reason)
		assert.ErrorContains(t, w.keeper.CancelOperation(t.Context(), 1), "is over: cancelled")
		assert.ErrorIs(t, w.keeper.CancelOperation(t.Context(), 9), ErrNoOperation)

		op, err := w.keeper.ops.begin(t.Context(), Edit, "", []string{"shelf"})
		require.NoError(t, err)
		assert.ErrorContains(t, w.keeper.CancelOperation(t.Context(), op.ID), "can't be cancelled any more")
		w.keeper.ops.says(op, "1 of 2 GB")
		assert.Equal(t, "1 of 2 GB", w.operation(op.ID).Says)
		waits := make(chan error, 1)
		go func() {
			_, err := w.keeper.Stop(t.Context(), "shelf")
			waits <- err
		}()
		after(time.Second)
		require.NoError(t, w.keeper.CancelOperation(t.Context(), op.ID+1))
		assert.ErrorContains(t, <-waits, "was cancelled by the keeper before it began")
		w.keeper.ops.finish(op, nil)
		assert.Empty(t, w.operation(op.ID).Says, "it is not under way any more")
		assert.Equal(t, supervise.Ready, w.status("shelf").State)
	})
}

// Of what an earlier keeper did, starts go on, and the rest is lost.
func TestOperationsOfAnEarlierKeeper(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter = 5 * time.Second
		at := time.Now()
		w.keeper.ops.resume([]Operation{
			{ID: 3, Does: "start", Services: []string{"ledger", "gone"}, State: OperationRuns, Began: at},
			{ID: 4, Does: "stop", Services: []string{"api"}, State: OperationRuns, Began: at},
			{ID: 5, Does: "stop", Services: []string{"api"}, State: OperationDone, Began: at, Ended: at},
		}, func([]string) map[string]progress { return map[string]progress{"ledger": {}, "gone": {settled: true}} })
		assert.Equal(t, OperationRuns, w.operation(3).State)
		assert.Equal(t, OperationLost, w.operation(4).State)
		assert.Equal(t, OperationDone, w.operation(5).State)
		_, _ = w.keeper.Start(t.Context(), false, "ledger")
		after(20 * time.Second)
		assert.Equal(t, OperationDone, w.operation(3).State)
		assert.Equal(t, OperationDone, w.operation(6).State, "numbers go on")
		for range 30 {
			_, _ = w.keeper.Stop(t.Context(), "api")
		}
		assert.LessOrEqual(t, len(w.keeper.Operations()), recentOperations+1)
	})
}
