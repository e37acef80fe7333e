package keep

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/reload"
	"neighbour/internal/kinds/catalogue"
	"neighbour/internal/testkit"
)

// fake is a driver whose service does what the test says.
type fake struct {
	world *world
	name  string
	rules supervise.Policy

	readyAfter time.Duration // from the launch; negative: never
	endsAfter  time.Duration // by itself; 0: never
	exit       proc.Exit
	deaf       bool        // ignores its stop signal
	broken     error       // of prepare
	unfit      error       // of setting it up
	outdated   atomic.Bool // it is to be set up again
	sick       atomic.Bool // its checks fail from now on
	preparing  time.Duration

	launches int
	launched time.Time
}

// world is what all fakes share: a record of what happened, in order.
type world struct {
	mu      sync.Mutex
	history []string
	fakes   map[string]*fake
	keeper  *Keeper
}

func (w *world) note(format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.history = append(w.history, fmt.Sprintf(format, args...))
}

func (w *world) index(entry string) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Index(w.history, entry)
}

// newWorld makes a keeper of fakes for services with their needs, written
// "api: ledger shelf".
func newWorld(t testing.TB, ctx context.Context, services ...string) *world {
	var src strings.Builder
	for _, s := range services {
		name, needs, _ := strings.Cut(s, ":")
		optional := strings.HasSuffix(name, "?")
		name = strings.TrimSuffix(name, "?")
		fmt.Fprintf(&src, "[service.%s]\nrun = \"x\"\noptional = %t\nneeds = [", name, optional)
		for _, n := range strings.Fields(needs) {
			fmt.Fprintf(&src, "%q, ", n)
		}
		src.WriteString("]\n")
	}
	d, err := declare.Parse([]byte(src.String()), "neighbour.toml", catalogue.All)
	require.NoError(t, err)
	w := &world{fakes: map[string]*fake{}}
	w.keeper = newKeeper(ctx, d, slog.New(slog.DiscardHandler), func(s *declare.Service) supervise.Driver {
		f := &fake{world: w, name: s.Name, readyAfter: 100 * time.Millisecond, rules: supervise.Policy{
			Every: time.Second, Within: time.Minute, Timeout: time.Second, Fails: 3, When: "crash", Most: 3, Window: time.Minute, Signal: "TERM", Grace: 10 * time.Second,
		}}
		w.fakes[s.Name] = f
		return f
	})
	return w
}

func (f *fake) Policy() supervise.Policy { return f.rules }
func (f *fake) Prepare(ctx context.Context, _ supervise.Request, set func(func(*supervise.Status))) error {
	if f.preparing > 0 {
		set(func(s *supervise.Status) { s.State, s.Reason = supervise.Preparing, "initdb" })
		select {
		case <-time.After(f.preparing):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	f.world.mu.Lock()
	defer f.world.mu.Unlock()
	return f.broken
}

// breaks makes the next starts fail, or mends it.
func (f *fake) breaks(err error) {
	f.world.mu.Lock()
	defer f.world.mu.Unlock()
	f.broken = err
}
func (f *fake) Adopt(supervise.Left) (supervise.Process, error) {
	return nil, errors.New("not here")
}
func (f *fake) Starter() (probe.Probe, func(context.Context, func(func(*supervise.Status))) error, error) {
	return probe.Func(f.check), nil, nil
}
func (f *fake) Given() map[string]string         { return nil }
func (f *fake) Foreign(supervise.Process) error  { return nil }
func (f *fake) Listens(supervise.Process) string { return "" }
func (f *fake) ErrorLine() string                { return "" }
func (f *fake) Cause(proc.Exit, bool) error      { return nil }
func (f *fake) Ended()                           {}
func (f *fake) Outdated() bool                   { return f.outdated.Load() }
func (f *fake) SetUp(_ context.Context, set func(func(*supervise.Status))) error {
	f.outdated.Store(false)
	f.world.mu.Lock()
	defer f.world.mu.Unlock()
	return f.unfit
}
func (f *fake) Over(float32, uint64) string { return "" }
func (f *fake) Misbehaves() string          { return "" }
func (f *fake) LastLines(int) []string      { return []string{"last words"} }
func (f *fake) Probe() (probe.Probe, error) { return probe.Func(f.check), nil }
func (f *fake) check(context.Context) (answer string, err error) {
	f.world.mu.Lock()
	since := time.Since(f.launched)
	f.world.mu.Unlock()
	switch {
	case f.readyAfter < 0 || since < f.readyAfter:
		return "", errors.New("connection refused")
	case f.sick.Load():
		return "", errors.New("503")
	}
	return "fine", nil
}
func (f *fake) Launch(func(func(*supervise.Status))) (supervise.Process, error) {
	f.world.mu.Lock()
	f.launches++
	f.launched = time.Now()
	f.world.mu.Unlock()
	f.world.note("launch %s", f.name)
	p := &fakeProcess{fake: f, done: make(chan struct{})}
	if f.endsAfter > 0 {
		time.AfterFunc(f.endsAfter, p.finish)
	}
	return p, nil
}

type fakeProcess struct {
	fake *fake
	done chan struct{}
	once sync.Once
}

func (p *fakeProcess) finish() {
	p.once.Do(func() { p.fake.world.note("end %s", p.fake.name); close(p.done) })
}
func (p *fakeProcess) ID() proc.ID           { return proc.ID{PID: 1000 + p.fake.launches} }
func (p *fakeProcess) Done() <-chan struct{} { return p.done }
func (p *fakeProcess) Exit() proc.Exit       { return p.fake.exit }
func (p *fakeProcess) Signal(string) error {
	if !p.fake.deaf {
		time.AfterFunc(50*time.Millisecond, p.finish)
	}
	return nil
}
func (p *fakeProcess) End(string) (int, error) { return 0, nil }
func (p *fakeProcess) KillAll(time.Duration) error {
	p.finish()
	return nil
}

func (w *world) status(name string) supervise.Status { return w.keeper.services[name].Status() }

// after lets an amount of fake time pass and everything come to rest.
func after(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

// inWorld runs a test with fake time.
func inWorld(t *testing.T, services []string, test func(t *testing.T, w *world)) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		w := newWorld(t, ctx, services...)
		test(t, w)
		_, err := w.keeper.Stop(context.Background())
		assert.NoError(t, err)
		cancel()
		synctest.Wait()
	})
}

func TestStartInOrderAndStopInReverse(t *testing.T) {
	inWorld(t, []string{"ledger", "shelf", "api: ledger shelf", "web: api"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].readyAfter = 300 * time.Millisecond
		_, err := w.keeper.Start(context.Background(), false, "web")
		require.NoError(t, err)
		after(200 * time.Millisecond)
		assert.Equal(t, supervise.Starting, w.status("ledger").State)
		assert.Equal(t, supervise.Ready, w.status("shelf").State, "they start at the same time")
		assert.Equal(t, supervise.Waiting, w.status("api").State)
		assert.Equal(t, "for ledger", w.status("api").Reason)
		assert.Equal(t, "connection refused", w.status("ledger").Reason)
		after(400 * time.Millisecond)
		for _, name := range []string{"ledger", "shelf", "api", "web"} {
			assert.Equal(t, supervise.Ready, w.status(name).State, name)
		}
		assert.InDelta(t, 300, w.status("ledger").ReadyMS, 10, "its readiness is seen at once")
		assert.Less(t, w.index("launch api"), w.index("launch web"))
		assert.Positive(t, w.keeper.Snapshot().Took)

		stopped, err := w.keeper.Stop(context.Background(), "shelf")
		require.NoError(t, err)
		assert.Equal(t, []string{"shelf", "api", "web"}, stopped, "and what needs it")
		assert.Less(t, w.index("end web"), w.index("end api"))
		assert.Less(t, w.index("end api"), w.index("end shelf"))
		assert.Equal(t, supervise.Ready, w.status("ledger").State)
		_, err = w.keeper.Start(context.Background(), false, "nothing")
		assert.ErrorContains(t, err, `there is no service "nothing"`)
	})
}

// A start that comes just as an attempt ends is either part of it or begins
// another; it is never lost below the state that the first one ends in.
func TestStartAtTheEndOfAnAttempt(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	w := newWorld(t, ctx, "api")
	defer func() {
		_, err := w.keeper.Stop(context.Background())
		assert.NoError(t, err)
		cancel()
	}()
	w.fakes["api"].breaks(errors.New("no screws"))
	u := w.keeper.services["api"]
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 500 {
				_, _ = w.keeper.Start(context.Background(), false, "api")
			}
		})
	}
	all.Wait()
	require.Eventually(t, func() bool { return !u.Wanted() }, testkit.Patience, time.Millisecond)
	s := u.Status()
	assert.Equal(t, supervise.Failed, s.State)
	assert.Equal(t, "no screws", s.Reason)
}

// How one service is, and how it is found to be.
func TestStates(t *testing.T) {
	for name, c := range map[string]struct {
		is      func(*fake)
		after   time.Duration
		state   supervise.State
		reason  string
		remarks []string
		tries   int
	}{
		"becomes ready": {func(f *fake) {}, time.Second, supervise.Ready, "", nil, 1},
		"prepares":      {func(f *fake) { f.preparing = time.Minute }, time.Second, supervise.Preparing, "initdb", nil, 0},
		"can't prepare": {func(f *fake) { f.broken = errors.New("node is not installed") }, time.Second, supervise.Failed, "node is not installed", nil, 0},
		"exits at once": {func(f *fake) {
			f.readyAfter, f.endsAfter, f.exit = -1, 400*time.Millisecond, proc.Exit{Known: true, Code: 3}
		}, time.Second, supervise.Failed, "exit 3, 0.4 s after its start and before it was ready", []string{"last words"}, 1},
		"is killed": {func(f *fake) {
			f.readyAfter, f.endsAfter, f.exit = -1, time.Second, proc.Exit{Known: true, Signal: "SIGKILL"}
		}, 2 * time.Second, supervise.Failed, "ended by SIGKILL, 1.0 s after its start and before it was ready", []string{"last words"}, 1},
		"is never ready": {func(f *fake) { f.readyAfter = -1 }, 61 * time.Second, supervise.Failed, "not ready within 60 s; newest check: connection refused", []string{"last words"}, 1},
		"wrong password": {func(f *fake) { f.broken = &probe.FinalError{Err: errors.New("wrong password")} }, time.Second, supervise.Failed, "wrong password", nil, 0},
		"a check hangs":  {func(f *fake) { f.readyAfter = -1; f.rules.Timeout = 10 * time.Second }, 2 * time.Second, supervise.Starting, "connection refused", nil, 1},
		"ends with 0":    {func(f *fake) { f.endsAfter, f.exit = time.Second, proc.Exit{Known: true} }, 3 * time.Second, supervise.Finished, `it ended by itself with exit 0; restart = { when = "always" } would start it again`, nil, 1},
		"ends, always":   {func(f *fake) { f.endsAfter, f.exit, f.rules.When = time.Second, proc.Exit{Known: true}, "always" }, 1500 * time.Millisecond, supervise.Ready, "", nil, 2},
		"crashes, never": {func(f *fake) {
			f.endsAfter, f.exit, f.rules.When = time.Second, proc.Exit{Known: true, Code: 1}, "never"
		}, 3 * time.Second, supervise.Failed, "exit 1 after 0.9 s", []string{"last words"}, 1},
		"crashes once":     {func(f *fake) { f.endsAfter, f.exit = 30*time.Second, proc.Exit{Known: true, Code: 1} }, 32 * time.Second, supervise.Ready, "", nil, 2},
		"crash loop":       {func(f *fake) { f.endsAfter, f.exit = time.Second, proc.Exit{Known: true, Code: 1} }, 20 * time.Second, supervise.Failed, "exit 1 after 0.9 s; it was restarted 3 times within 60 s and ended each time; giving up", []string{"last words"}, 4},
		"slow crash loop":  {func(f *fake) { f.endsAfter, f.exit = 40*time.Second, proc.Exit{Known: true, Code: 1} }, 10 * time.Minute, supervise.Ready, "", nil, 15},
		"once, ends well":  {func(f *fake) { f.rules.Once, f.endsAfter, f.exit = true, time.Hour, proc.Exit{Known: true} }, 61 * time.Minute, supervise.Finished, "exit 0", nil, 1},
		"once, ends badly": {func(f *fake) { f.rules.Once, f.endsAfter, f.exit = true, time.Second, proc.Exit{Known: true, Code: 2} }, time.Minute, supervise.Failed, "exit 2, 1.0 s after its start and before it was ready", []string{"last words"}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			inWorld(t, []string{"api"}, func(t *testing.T, w *world) {
				c.is(w.fakes["api"])
				_, err := w.keeper.Start(context.Background(), false)
				require.NoError(t, err)
				after(c.after)
				s := w.status("api")
				assert.Equal(t, c.state, s.State, s.Reason)
				assert.Equal(t, c.reason, s.Reason)
				assert.Equal(t, c.remarks, s.Remarks)
				assert.Equal(t, c.tries, w.fakes["api"].launches)
				if c.state == supervise.Failed || c.state == supervise.Finished {
					assert.Zero(t, s.PID)
				}
			})
		})
	}
}

// Who watches only moves hears of no checks, and keeps no keeper from being idle.
func TestWatchOfMoves(t *testing.T) {
	inWorld(t, []string{"api"}, func(t *testing.T, w *world) {
		watch := w.keeper.WatchMoves()
		defer watch.Close()
		first, err := watch.Next(context.Background())
		require.NoError(t, err)
		assert.Len(t, first.Services, 1)
		after(time.Hour)
		assert.Positive(t, w.keeper.Idle())
		_, err = w.keeper.Start(context.Background(), false)
		require.NoError(t, err)
		after(2 * time.Second)
		moved, err := watch.Next(context.Background())
		require.NoError(t, err)
		assert.Equal(t, supervise.Ready, moved.Services[0].State)
		for len(watch.wake) > 0 {
			_, _ = watch.Next(context.Background())
		}
		after(time.Minute) // of checks
		assert.Empty(t, watch.wake)
	})
}

// A server that has ended by itself is not done, as what runs once is: a start of everything
// starts it, too.
func TestStartOfWhatHasEnded(t *testing.T) {
	for name, once := range map[string]bool{"a server": false, "what runs once": true} {
		t.Run(name, func(t *testing.T) {
			inWorld(t, []string{"api"}, func(t *testing.T, w *world) {
				f := w.fakes["api"]
				f.rules.Once, f.endsAfter, f.exit = once, time.Second, proc.Exit{Known: true}
				_, err := w.keeper.Start(context.Background(), false)
				require.NoError(t, err)
				after(3 * time.Second)
				require.Equal(t, supervise.Finished, w.status("api").State)
				f.endsAfter = time.Hour
				_, err = w.keeper.Start(context.Background(), false)
				require.NoError(t, err)
				after(3 * time.Second)
				assert.Equal(t, map[bool]supervise.State{false: supervise.Ready, true: supervise.Finished}[once], w.status("api").State)
				assert.Equal(t, map[bool]int{false: 2, true: 1}[once], f.launches)
			})
		})
	}
}

func TestAilingAndWellAgain(t *testing.T) {
	inWorld(t, []string{"api", "web: api"}, func(t *testing.T, w *world) {
		_, _ = w.keeper.Start(context.Background(), false)
		after(10 * time.Second)
		w.fakes["api"].sick.Store(true)
		after(2400 * time.Millisecond)
		assert.Equal(t, supervise.Ready, w.status("api").State, "one or two failed checks are no illness")
		after(time.Second)
		s := w.status("api")
		assert.Equal(t, supervise.Ailing, s.State)
		assert.Contains(t, s.Sentence(time.Now()), "its check fails: 503; 3 of ")
		assert.Equal(t, supervise.Ready, w.status("web").State, "what needs it goes on")
		w.fakes["api"].sick.Store(false)
		after(time.Second)
		s = w.status("api")
		assert.Equal(t, supervise.Ready, s.State)
		assert.Equal(t, 3, s.Checks.Failed)
		assert.Len(t, s.Checks.Recent, s.Checks.Total)
		assert.Equal(t, 1, w.fakes["api"].launches)
	})
}

// One that is to be restarted for it is, in the same window as others, and its
// story is told.
func TestAilingIsRestartedWhereDeclared(t *testing.T) {
	inWorld(t, []string{"api"}, func(t *testing.T, w *world) {
		w.fakes["api"].rules.Ailing = 5 * time.Second
		_, _ = w.keeper.Start(context.Background(), false)
		after(10 * time.Second)
		w.fakes["api"].sick.Store(true)
		after(6 * time.Second)
		assert.Equal(t, supervise.Ailing, w.status("api").State)
		after(3 * time.Second)
		s := w.status("api")
		assert.Equal(t, 2, w.fakes["api"].launches, "%s: %s", s.State, s.Reason)
		require.Len(t, s.Tries, 1)
		assert.Regexp(t, `^its check failed for 5\.\d s: 503$`, s.Tries[0].Reason)
		assert.Equal(t, []string{"last words"}, s.Tries[0].Lines)
		assert.True(t, s.Tries[0].Began.Before(s.Tries[0].Ended))
		after(5 * time.Minute) // it never answers again
		s = w.status("api")
		assert.Equal(t, supervise.Failed, s.State)
		assert.Equal(t, "not ready within 60 s; newest check: 503; it did not become ready in 3 tries; giving up", s.Reason)
		w.fakes["api"].sick.Store(false)
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		assert.Empty(t, w.status("api").Tries, "a new start, a new story")
	})
}

// A service that is to be restarted for several reasons at once is restarted
// once, after what is under way, and not if it was stopped meanwhile.
func TestRestartSoon(t *testing.T) {
	inWorld(t, []string{"api", "web: api"}, func(t *testing.T, w *world) {
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		op, err := w.keeper.ops.begin(context.Background(), Edit, "", []string{"api"})
		require.NoError(t, err)
		for range 3 {
			w.keeper.reload(reload.Change{Service: "api", Files: []string{"a.js"}, Count: 1})
		}
		after(time.Second)
		assert.Equal(t, 1, w.fakes["api"].launches)
		w.keeper.ops.finish(op, nil)
		after(2 * time.Second)
		assert.Equal(t, 2, w.fakes["api"].launches)
		assert.Equal(t, 1, w.fakes["web"].launches, "what needs it goes on")
		_, _ = w.keeper.Stop(context.Background(), "api")
		w.keeper.reload(reload.Change{Service: "api", Files: []string{"a.js"}, Count: 1})
		after(2 * time.Second)
		assert.Equal(t, supervise.Stopped, w.status("api").State)
		w.keeper.background.Wait()
	})
}

func TestFailingDoesNotStopTheRest(t *testing.T) {
	inWorld(t, []string{"ledger", "extra?", "api: ledger", "web: api", "other: extra", "shelf"}, func(t *testing.T, w *world) {
		w.fakes["ledger"].broken = errors.New("postgres is not installed")
		w.fakes["extra"].broken = errors.New("not today")
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		assert.Equal(t, supervise.Ready, w.status("shelf").State)
		assert.Equal(t, supervise.Ready, w.status("other").State, "the failed one it needs is optional")
		api, web := w.status("api"), w.status("web")
		assert.True(t, api.Blocked && web.Blocked)
		assert.Equal(t, "for ledger, which failed", api.Reason)
		assert.Equal(t, "for api, which can't start", web.Reason)
		assert.Positive(t, w.keeper.Snapshot().Took, "the start has come to its end all the same")

		w.fakes["ledger"].broken = nil
		_, _ = w.keeper.Start(context.Background(), false, "ledger")
		after(time.Second)
		assert.Equal(t, supervise.Ready, w.status("web").State, "mended, all goes on by itself")
	})
}

func TestStopping(t *testing.T) {
	inWorld(t, []string{"deaf", "slow: deaf"}, func(t *testing.T, w *world) {
		w.fakes["deaf"].deaf = true
		w.fakes["slow"].preparing = time.Hour
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		began := time.Now()
		done := make(chan struct{})
		go func() {
			defer close(done)
			_, _ = w.keeper.Stop(context.Background()) // while one is still preparing
		}()
		after(5 * time.Second)
		assert.Equal(t, supervise.Stopped, w.status("slow").State)
		assert.Equal(t, supervise.Stopping, w.status("deaf").State)
		assert.Contains(t, w.status("deaf").Sentence(time.Now()), "sent SIGTERM")
		stopped, _ := w.keeper.Stop(context.Background()) // a second stop waits for the first
		<-done
		assert.Equal(t, 10*time.Second, time.Since(began), "killed after its grace")
		assert.Empty(t, stopped)
		assert.Equal(t, supervise.Stopped, w.status("deaf").State)
		assert.Zero(t, w.fakes["slow"].launches)
	})
}

func TestRestartTellsThoseThatNeedIt(t *testing.T) {
	inWorld(t, []string{"ledger", "api: ledger", "web: api"}, func(t *testing.T, w *world) {
		_, _ = w.keeper.Start(context.Background(), false)
		after(time.Second)
		told, _, err := w.keeper.Restart(context.Background(), false, false, "ledger")
		require.NoError(t, err)
		after(time.Second)
		assert.Equal(t, []string{"api", "web"}, told)
		assert.Equal(t, []int{2, 1, 1}, []int{w.fakes["ledger"].launches, w.fakes["api"].launches, w.fakes["web"].launches})
		assert.Contains(t, w.status("api").Sentence(time.Now()), "ledger was restarted at")
		_, _, err = w.keeper.Restart(context.Background(), true, false, "api")
		require.NoError(t, err)
		after(time.Second)
		assert.Equal(t, []int{3, 2, 1}, []int{w.fakes["ledger"].launches, w.fakes["api"].launches, w.fakes["web"].launches})
	})
}

func TestWatchGivesTheNewest(t *testing.T) {
	inWorld(t, []string{"api", "web: api"}, func(t *testing.T, w *world) {
		watch := w.keeper.Watch()
		defer watch.Close()
		first, err := watch.Next(t.Context())
		require.NoError(t, err)
		assert.Len(t, first.Services, 2, "the first holds everything")
		_, _ = w.keeper.Start(context.Background(), false)
		after(10 * time.Second) // nobody looks meanwhile
		next, err := watch.Next(t.Context())
		require.NoError(t, err)
		for _, s := range next.Services {
			assert.Equal(t, supervise.Ready, s.State)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
		defer cancel()
		_, err = watch.Next(ctx)
		assert.ErrorIs(t, err, context.DeadlineExceeded, "what was told once is not told again")
	})
}

// Whatever is asked for in whatever order, no service runs before all that
// it needs is ready, and after a stop none is left.
func TestAnyOrders(t *testing.T) {
	services := []string{"a", "b: a", "c: a", "d: b c", "e: d", "f"}
	rapid.Check(t, func(r *rapid.T) {
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			w := newWorld(t, ctx, services...)
			for range rapid.IntRange(1, 12).Draw(r, "n") {
				name := rapid.SampledFrom([]string{"a", "b", "c", "d", "e", "f"}).Draw(r, "name")
				switch rapid.IntRange(0, 4).Draw(r, "do") {
				case 0, 1:
					_, _ = w.keeper.Start(context.Background(), false, name)
				case 2:
					_, _ = w.keeper.Stop(context.Background(), name)
				case 3:
					_, _, _ = w.keeper.Restart(context.Background(), false, false, name)
				case 4:
					w.fakes[name].breaks(errors.New("broken"))
					time.AfterFunc(time.Second, func() { w.fakes[name].breaks(nil) })
				}
				after(time.Duration(rapid.IntRange(0, 300).Draw(r, "pause")) * time.Millisecond)
			}
			_, _ = w.keeper.Start(context.Background(), false)
			after(5 * time.Second)
			_, _ = w.keeper.Stop(context.Background())
			after(time.Second)
			running := map[string]bool{}
			for _, h := range w.history {
				verb, name, _ := strings.Cut(h, " ")
				running[name] = verb == "launch"
			}
			for name := range w.fakes {
				if running[name] || w.status(name).State != supervise.Stopped {
					r.Fatalf("%s still runs: %v", name, w.status(name))
				}
			}
			cancel()
			synctest.Wait()
		})
	})
}
