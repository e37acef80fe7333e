package supervise

import (
	"context"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/journal"
)

// adopter drives a service whose process goes on.
type adopter struct {
	Driver // of the rest nothing is asked
	p      Process
}

func (a adopter) Adopt(Left) (Process, error)                    { return a.p, nil }
func (adopter) Probe() (probe.Probe, error)                      { return nil, nil }
func (adopter) Given() map[string]string                         { return nil }
func (adopter) Policy() Policy                                   { return Policy{Every: time.Second, Within: time.Minute} }
func (adopter) Outdated() bool                                   { return false }
func (adopter) Ended()                                           {}
func (adopter) Foreign(Process) error                            { return nil }
func (adopter) Listens(Process) string                           { return "" }
func (adopter) Over(float32, uint64) string                      { return "" }
func (adopter) Misbehaves() string                               { return "" }
func (adopter) ErrorLine() string                                { return "" }
func (adopter) LastLines(int) []string                           { return nil }
func (adopter) Cause(proc.Exit, bool) error                      { return nil }
func (adopter) SetUp(context.Context, func(func(*Status))) error { return nil }
func (adopter) Starter() (probe.Probe, func(context.Context, func(func(*Status))) error, error) {
	return nil, nil, nil
}

// goesOn is a process that does not end.
type goesOn struct {
	Process
	done chan struct{}
}

func (goesOn) ID() proc.ID             { return proc.ID{PID: 4711, Start: "7"} }
func (g goesOn) Done() <-chan struct{} { return g.done }
func (goesOn) Exit() proc.Exit         { return proc.Exit{} }

type quiet struct{}

func (quiet) Missing(string) (string, bool)               { return "", false }
func (quiet) Changed(State, Status, bool)                 {}
func (quiet) Replaced(string)                             {}
func (quiet) Note(_, _ string, _ journal.Level, _ string) {}

// What is adopted tells of its process, though its state may have been saved the moment before it
// did.
func TestAdoptedBeforeItsPIDWasTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		p := goesOn{done: make(chan struct{})}
		sv := New(ctx, Config{Driver: adopter{p: p}, Host: quiet{}, Log: slog.New(slog.DiscardHandler), Status: Status{Name: "slow"}})
		left := Left{ID: p.ID(), Status: Status{Name: "slow", State: Starting}}
		require.NoError(t, sv.Adopt(left, func(*Status) {}))
		assert.Eventually(t, func() bool { return sv.Status().State == Ready }, time.Minute, time.Millisecond, "nothing is asked of it but its process")
		assert.Equal(t, 4711, sv.Status().PID)
		assert.Equal(t, p.ID(), sv.Process())
		cancel()
		synctest.Wait()
	})
}
