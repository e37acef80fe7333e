package proc_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// run starts a shell script as a service and returns it with its folder.
func run(t *testing.T, script string) (*proc.Process, string) {
	t.Helper()
	dir := t.TempDir()
	out, err := os.Create(filepath.Join(dir, "out"))
	require.NoError(t, err)
	defer out.Close()
	p, err := proc.Start(proc.Spec{
		Argv: []string{"/bin/sh", "-c", script}, Env: os.Environ(), Dir: dir, Output: out, Mark: proc.Mark(dir, "it"),
	})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, p.KillAll(2*time.Second)) })
	return p, dir
}

// pidIn waits for a pid in a file.
func pidIn(t *testing.T, path string) proc.ID {
	t.Helper()
	var id proc.ID
	require.Eventually(t, func() bool {
		b, _ := os.ReadFile(path)
		pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
		if err != nil {
			return false
		}
		id, err = proc.Identify(pid)
		return err == nil
	}, testkit.Patience, 5*time.Millisecond)
	return id
}

func ended(t *testing.T, p *proc.Process) proc.Exit {
	t.Helper()
	select {
	case <-p.Done():
		return p.Exit()
	case <-time.After(testkit.Patience):
		t.Fatal("it did not end")
		return proc.Exit{}
	}
}

func TestHowItEnds(t *testing.T) {
	for script, want := range map[string]string{"exit 0": "exit 0", "exit 3": "exit 3", "kill -9 $$": "ended by SIGKILL", "kill -SEGV $$": "ended by SIGSEGV"} {
		p, _ := run(t, script)
		e := ended(t, p)
		assert.Equal(t, want, e.String())
		assert.Equal(t, want == "exit 0", e.OK())
		assert.False(t, p.ID().Alive())
		assert.ErrorIs(t, p.Signal("TERM"), os.ErrProcessDone)
	}
	_, err := proc.Start(proc.Spec{Argv: []string{"/no/such/program"}})
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestOutputGoesToTheFileItself(t *testing.T) {
	p, dir := run(t, "echo out; echo err >&2; pwd; echo $"+proc.MarkVariable)
	ended(t, p)
	b, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)
	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	assert.Equal(t, "out\nerr\n"+real+"\n"+dir+":it\n", string(b))
}

// Everything that a service starts is found and killed, whatever it does to
// get away.
func TestNothingIsLeft(t *testing.T) {
	for name, script := range map[string]string{
		"a child":             `sleep 100 & echo $! > pid; wait`,
		"a grandchild":        `sh -c 'sleep 100 & echo $! > pid; wait' & wait`,
		"its own session":     `setsid sh -c 'echo $$ > pid; exec sleep 100' & wait`,
		"detached, main ends": `setsid sh -c 'echo $$ > pid; exec sleep 100' & while [ ! -s pid ]; do sleep 0.01; done; exit 0`,
		"twice detached":      `(setsid sh -c '(setsid sh -c "echo \$\$ > pid; exec sleep 100" &)' &) ; exec sleep 100`,
		"ignores signals":     `trap '' TERM INT HUP; echo $$ > pid; while :; do sleep 0.1; done`,
	} {
		t.Run(name, func(t *testing.T) {
			p, dir := run(t, script)
			far := pidIn(t, filepath.Join(dir, "pid"))
			require.Eventually(t, func() bool {
				rest, err := p.Remains()
				require.NoError(t, err)
				for _, r := range rest {
					if r == far {
						return true
					}
				}
				return false
			}, testkit.Patience, 5*time.Millisecond, "it is found among what remains")
			require.NoError(t, p.KillAll(2*time.Second))
			assert.False(t, far.Alive())
			rest, err := p.Remains()
			require.NoError(t, err)
			assert.Empty(t, rest)
		})
	}
}

// A script doesn't go on with its next command because the one that it waits
// for was killed first.
func TestKilledTogether(t *testing.T) {
	for range 20 {
		p, dir := run(t, "(sleep 100 & echo > begun; wait); sleep 100; echo > on; sleep 100")
		require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "begun")); return err == nil }, testkit.Patience, time.Millisecond)
		rest, err := p.Remains()
		require.NoError(t, err)
		slices.Reverse(rest) // those that are waited for come first
		proc.Signal(rest, "KILL")
		ended(t, p)
		assert.NoFileExists(t, filepath.Join(dir, "on"))
	}
}

// One that is halted can't take a signal, so it is woken.
func TestHaltedProcessTakesItsSignal(t *testing.T) {
	p, _ := run(t, "exec sleep 100")
	require.Eventually(t, func() bool { return syscall.Kill(p.ID().PID, syscall.SIGSTOP) == nil && halted(p.ID().PID) }, testkit.Patience, time.Millisecond)
	require.NoError(t, p.Signal("TERM"))
	assert.Equal(t, "ended by SIGTERM", ended(t, p).String())
}

func halted(pid int) bool {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return strings.Contains(string(b), ") T ")
}

// What has taken away its group, its session and its environment is ended
// with the process that inherited it.
func TestOrphansAreEnded(t *testing.T) {
	require.NoError(t, proc.Subreap())
	p, dir := run(t, `env -i setsid sh -c "echo \$\$ > pid; exec sleep 100" & while [ ! -s pid ]; do sleep 0.01; done; exit 0`)
	ended(t, p)
	far := pidIn(t, filepath.Join(dir, "pid"))
	rest, err := p.Remains()
	require.NoError(t, err)
	assert.NotContains(t, rest, far, "nothing tells whose it is")
	other, _ := run(t, "exec sleep 100")
	on := exec.Command("sleep", "100")
	proc.Detach(on)
	require.NoError(t, on.Start())
	defer func() { _ = on.Process.Kill(); _ = on.Wait() }()
	assert.Equal(t, 1, proc.EndOrphans(2*time.Second))
	assert.False(t, far.Alive())
	assert.True(t, other.ID().Alive(), "what was started here is left alone")
	table, err := proc.ReadTable()
	require.NoError(t, err)
	assert.True(t, table[on.Process.Pid].Alive(), "and so is what is detached")
	require.NoError(t, other.KillAll(time.Second))
}

func TestAdopt(t *testing.T) {
	first, dir := run(t, "echo $$ > pid; exec sleep 100")
	id := pidIn(t, filepath.Join(dir, "pid"))
	p, err := proc.Adopt(id, proc.Mark(dir, "it"), "")
	require.NoError(t, err)
	select {
	case <-p.Done():
		t.Fatal("it still runs")
	case <-time.After(50 * time.Millisecond):
	}
	require.NoError(t, p.Signal("TERM"))
	assert.Equal(t, "ended", ended(t, p).String(), "only its parent learns how it ended")
	assert.Equal(t, "ended by SIGTERM", ended(t, first).String())
	_, err = proc.Adopt(id, "", "")
	assert.ErrorContains(t, err, "is gone")
}

// A process that has a pid which another had before is never touched.
func TestRecycledPidIsAnother(t *testing.T) {
	p, _ := run(t, "exec sleep 100")
	stale := proc.ID{PID: p.ID().PID, Start: "another boot:1"}
	assert.False(t, stale.Alive())
	_, err := proc.Adopt(stale, "", "")
	assert.Error(t, err)
	proc.Signal([]proc.ID{stale}, "KILL")
	table, err := proc.ReadTable()
	require.NoError(t, err)
	assert.Empty(t, table.Belonging(stale))
	time.Sleep(20 * time.Millisecond)
	assert.True(t, p.ID().Alive())
}

func TestUsage(t *testing.T) {
	p, _ := run(t, "(while :; do :; done) & wait")
	var total time.Duration
	require.Eventually(t, func() bool {
		table, err := proc.ReadTable()
		require.NoError(t, err)
		ids := table.Belonging(p.ID())
		table.MeasureShared(ids)
		cpu, memory := table.Usage(ids)
		total = cpu
		return cpu > 50*time.Millisecond && memory > 100_000 && len(ids) == 2
	}, testkit.Patience, 20*time.Millisecond)
	assert.Less(t, total, testkit.Patience)
}

func TestAccount(t *testing.T) {
	testkit.NeedRoot(t)
	account, err := proc.FindAccount("no-such-user-here", "nobody")
	require.NoError(t, err)
	assert.Equal(t, "nobody", account.Name)
	out, err := os.CreateTemp("", "account")
	require.NoError(t, err)
	defer os.Remove(out.Name())
	p, err := proc.Start(proc.Spec{Argv: []string{"/usr/bin/id", "-u"}, Dir: "/", Output: out, Account: account, Mark: "x:it"})
	require.NoError(t, err)
	assert.True(t, ended(t, p).OK())
	b, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintln(account.UID), string(b))
	var none *proc.Account
	assert.Nil(t, none.Attributes())
	assert.NoError(t, none.Own(out.Name()))
}

func TestReapTakesOnlyWhatIsNobodys(t *testing.T) {
	cmd := exec.Command("true")
	require.NoError(t, cmd.Start())
	time.Sleep(50 * time.Millisecond) // a zombie that its Wait will collect
	table, err := proc.ReadTable()
	require.NoError(t, err)
	seen := proc.Reap(table, nil)
	assert.True(t, seen[cmd.Process.Pid])
	assert.NoError(t, cmd.Wait(), "the first look leaves it alone")
}

func TestCounters(t *testing.T) {
	me, err := proc.Identify(os.Getpid())
	require.NoError(t, err)
	require.Eventually(t, func() bool { // what the tests before have left may be closed meanwhile
		before := proc.CountersOf([]proc.ID{me})
		f, err := os.Open(os.DevNull)
		require.NoError(t, err)
		defer f.Close()
		return runtime.GOOS != "linux" || proc.CountersOf([]proc.ID{me}).Files == before.Files+1
	}, testkit.Patience, time.Millisecond)
	assert.Equal(t, proc.Counters{}, proc.CountersOf(nil))
	m, err := proc.ReadMachine()
	require.NoError(t, err)
	assert.Positive(t, m.Busy)
	assert.Greater(t, m.Total, m.Memory)
	table, err := proc.ReadTable()
	require.NoError(t, err)
	assert.Positive(t, table[os.Getpid()].Threads)
}
