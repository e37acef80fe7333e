package keep

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/starts"
)

// recorded returns the latest start, with times in whole milliseconds.
func (w *world) recorded(t *testing.T) *starts.Start {
	s, _ := w.keeper.records.recording()
	require.NotNil(t, s)
	for i := range s.Services {
		for j := range s.Services[i].Phases {
			p := &s.Services[i].Phases[j]
			p.From, p.To = float64(int(p.From)), float64(int(p.To))
		}
	}
	return s
}

func TestStartsAreRecorded(t *testing.T) {
	inWorld(t, []string{"ledger", "shelf", "api: ledger shelf", "web: api"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter, w.fakes["api"].preparing = 300*time.Millisecond, 500*time.Millisecond
		ctx := AskedBy(context.Background(), "the test")
		_, err := w.keeper.Start(ctx, false)
		require.NoError(t, err)
		after(400 * time.Millisecond)
		s := w.recorded(t)
		assert.Equal(t, starts.UnderWay, s.Result)
		assert.Equal(t, "the test", s.By)
		v, _ := s.Service("api")
		assert.Empty(t, v.Result)
		assert.Equal(t, starts.Phase{Is: starts.Preparing, From: 300, What: "initdb"}, v.Phases[len(v.Phases)-1])

		after(time.Second)
		s = w.recorded(t)
		assert.Equal(t, starts.Ready, s.Result)
		assert.InDelta(t, 1000, s.Took, 15)
		assert.True(t, s.Cold)
		v, _ = s.Service("api")
		assert.Equal(t, []starts.Phase{
			{Is: starts.Waiting, To: 100, What: "for ledger and shelf"}, {Is: starts.Waiting, From: 100, To: 300, What: "for ledger"},
			{Is: starts.Preparing, From: 300, To: 800, What: "initdb"}, {Is: starts.Starting, From: 800, To: 900, What: "connection refused"},
		}, v.Phases)
		assert.Equal(t, []string{"ledger", "api", "web"}, starts.Analyse(s, 2).Path)
		assert.Empty(t, w.keeper.records.under)

		// A restart of one is a start of that one.
		_, _, err = w.keeper.Restart(ctx, false, false, "shelf")
		require.NoError(t, err)
		after(time.Second)
		s = w.recorded(t)
		assert.Len(t, s.Services, 1)
		assert.InDelta(t, 100, s.Took, 10)
		assert.False(t, s.Cold)
	})
}

func TestStartsThatDoNotEndWell(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger", "slow", "extra?"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].broken = errors.New("no disk")
		w.fakes["extra"].broken = errors.New("not here")
		w.fakes["slow"].readyAfter = 20 * time.Second
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		assert.Equal(t, starts.UnderWay, w.recorded(t).Result)
		first, _ := w.keeper.records.recording()

		// Another start takes over what begins again, and only that.
		w.fakes["ledger"].breaks(nil)
		_, _ = w.keeper.Start(context.Background(), false, "ledger")
		after(time.Second)
		s := w.recorded(t)
		assert.Len(t, s.Services, 1)
		assert.Equal(t, starts.Ready, s.Result)
		after(30 * time.Second)
		all := w.keeper.records.unsaved
		require.Len(t, all, 2)
		assert.Equal(t, first.Began, all[1].Began)
		assert.Equal(t, starts.Failed, all[1].Result, "the ledger had failed in it")
		v, _ := all[1].Service("slow")
		assert.Equal(t, starts.Ready, v.Result)

		// One that is stopped.
		_, _ = w.keeper.Stop(context.Background())
		_, _ = w.keeper.Start(context.Background(), false, "slow")
		after(time.Second)
		_, _ = w.keeper.Stop(context.Background())
		assert.Equal(t, starts.Cancelled, w.recorded(t).Result)
		assert.Equal(t, supervise.Stopped, w.status("slow").State)
	})
}
