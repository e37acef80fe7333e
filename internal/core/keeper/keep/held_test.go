package keep

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/starts"
)

// fits makes setting a service up fail, or mends it.
func (f *fake) fits(err error) {
	f.world.mu.Lock()
	defer f.world.mu.Unlock()
	f.unfit = err
}

// A service whose contents are not as they should be is ready and held: it runs,
// what needs it waits and says why, and a start tries again.
func TestHeld(t *testing.T) {
	inWorld(t, []string{"ledger", "shelf", "api: ledger shelf", "web: api"}, func(t *testing.T, w *world) {
		ledger := w.fakes["ledger"]
		ledger.fits(&supervise.Failure{Reason: "its migrations failed: db/1.sql:3: no", Remarks: []string{"correct it"}})
		_, err := w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(5 * time.Second)
		s := w.keeper.services["ledger"].Status()
		assert.Equal(t, supervise.Ready, s.State)
		assert.Equal(t, supervise.Held, s.Shown())
		assert.Equal(t, []string{"correct it"}, s.Remarks)
		assert.Contains(t, s.Sentence(time.Now()), "and what needs it waits: its migrations failed: db/1.sql:3: no")
		api := w.keeper.services["api"].Status()
		assert.Equal(t, supervise.Waiting, api.State)
		assert.True(t, api.Blocked)
		assert.Equal(t, "for ledger, whose migrations failed: db/1.sql:3: no", api.Reason)
		assert.Equal(t, "for api, which can't start", w.keeper.services["web"].Status().Reason)
		r := w.recorded(t)
		assert.Equal(t, starts.Failed, r.Result)
		v, _ := r.Service("ledger")
		assert.Equal(t, "its migrations failed: db/1.sql:3: no", v.Reason)
		ops := w.keeper.Operations()
		assert.Equal(t, OperationFailed, ops[len(ops)-1].State)
		assert.Contains(t, ops[len(ops)-1].Reason, "ledger")

		// Mended, a start goes on from there; the process is the same.
		ledger.fits(nil)
		launches := ledger.launches
		_, err = w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		for _, name := range []string{"api", "web"} {
			assert.False(t, w.status(name).Blocked, "%s looks again: a start that asks now is not told of what was", name)
		}
		after(2 * time.Second)
		assert.Equal(t, supervise.Ready, w.keeper.services["web"].Status().State)
		assert.False(t, w.keeper.services["ledger"].Status().Held)
		assert.Equal(t, launches, ledger.launches)

		// One that is ready is set up again only when that has something to do.
		began := w.keeper.services["ledger"].Status().Began
		_, err = w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(time.Second)
		assert.Equal(t, began, w.keeper.services["ledger"].Status().Began)
		ledger.outdated.Store(true)
		_, err = w.keeper.Start(context.Background(), false, "ledger")
		require.NoError(t, err)
		after(time.Second)
		assert.NotEqual(t, began, w.keeper.services["ledger"].Status().Began)
		assert.False(t, ledger.outdated.Load())
		assert.Equal(t, supervise.Ready, w.keeper.services["api"].Status().State, "what needs it goes on meanwhile")
		assert.Equal(t, launches, ledger.launches)
	})
}

// A service whose process ends just as a start has it set up again was ready before:
// it is restarted like any that ends by itself.
func TestEndWhileItIsSetUpAgain(t *testing.T) {
	inWorld(t, []string{"ledger"}, func(t *testing.T, w *world) {
		ledger := w.fakes["ledger"]
		ledger.endsAfter, ledger.exit = 500*time.Millisecond, proc.Exit{Known: true, Code: -1, Signal: "SIGKILL"}
		_, err := w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(300 * time.Millisecond)
		require.Equal(t, supervise.Ready, w.status("ledger").State)
		ledger.readyAfter, ledger.endsAfter = time.Second, 0 // its check fails from now on
		ledger.outdated.Store(true)
		_, err = w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(150 * time.Millisecond)
		require.Equal(t, supervise.Starting, w.status("ledger").State)
		after(2 * time.Second)
		assert.Equal(t, supervise.Ready, w.status("ledger").State, w.status("ledger").Reason)
		assert.Equal(t, 1, w.status("ledger").Restarts)
		assert.Equal(t, 2, ledger.launches)
	})
}

// What may fail without others does not hold them either.
func TestHeldAndOptional(t *testing.T) {
	inWorld(t, []string{"ledger?", "api: ledger"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].fits(&supervise.Failure{Reason: "its seed failed: no"})
		_, err := w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(2 * time.Second)
		assert.Equal(t, supervise.Held, w.keeper.services["ledger"].Status().Shown())
		assert.Equal(t, supervise.Ready, w.keeper.services["api"].Status().State)
	})
}

// A stop in the middle of setting up ends it, and a crash is one of the service.
func TestStopWhileHeld(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].fits(&supervise.Failure{Reason: "its seed failed: no"})
		_, err := w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(time.Second)
		stopped, err := w.keeper.Stop(context.Background())
		require.NoError(t, err)
		assert.Equal(t, []string{"ledger", "api"}, stopped)
		s := w.keeper.services["ledger"].Status()
		assert.Equal(t, supervise.Stopped, s.State)
		assert.False(t, s.Held)
	})
}
