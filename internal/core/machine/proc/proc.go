// Package proc starts, signals and watches the processes of services. It
// knows a process by its pid and its start together, so that a recycled pid
// is never taken for the process that had it before, and it finds everything
// that a service started: its process group, its descendants, and those that
// detached themselves from both.
package proc

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
)

// MarkVariable is the environment variable that marks every process of a
// service, and thereby its descendants. Its value is the project's folder and
// the service's name with a colon between.
const MarkVariable = "NEIGHBOUR_SERVICE"

// detached is the mark of a process that belongs to no service, wherever it was started from.
const detached = "-"

// Detach prepares a command to run in a session of its own, on behalf of no service and no
// keeper: it goes on when what started it ends. Its environment is this process's, to which
// cmd.Env adds.
func Detach(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Env = append(append(os.Environ(), cmd.Env...), MarkVariable+"="+detached)
}

// ID is a process: its pid and what tells it from others that had the same
// pid before.
type ID struct {
	PID   int    `json:"pid"`
	Start string `json:"start"`
}

// Alive reports whether the process still runs; a zombie doesn't. One that can't be looked at, as when
// no file can be opened any more, runs as far as is known.
func (id ID) Alive() bool {
	if id.PID <= 0 {
		return false
	}
	start, err := startOf(id.PID)
	switch {
	case err == nil:
		return start == id.Start
	case gone(err):
		return false
	}
	return !errors.Is(syscall.Kill(id.PID, 0), syscall.ESRCH)
}

// gone reports whether an error says that there is no such process. Any other says nothing of it.
func gone(err error) bool {
	return errors.Is(err, errGone) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ESRCH)
}

// Identify returns the identity of a running process.
func Identify(pid int) (ID, error) {
	start, err := startOf(pid)
	if err != nil {
		return ID{}, fmt.Errorf("no process has pid %d: %w", pid, err)
	}
	return ID{PID: pid, Start: start}, nil
}

// Exit is how a process ended.
type Exit struct {
	// Known is false for an adopted process: only its parent learns how a
	// process ended.
	Known bool
	Code  int
	// Signal is the signal's name, "SIGKILL", if one ended it.
	Signal string
}

// OK reports whether the process is known to have ended well.
func (e Exit) OK() bool { return e.Known && e.Signal == "" && e.Code == 0 }

func (e Exit) String() string {
	switch {
	case !e.Known:
		return "ended"
	case e.Signal != "":
		return "ended by " + e.Signal
	default:
		return fmt.Sprintf("exit %d", e.Code)
	}
}

// Spec says how to start a process.
type Spec struct {
	Argv []string // the program, looked up by the caller, and its arguments
	Env  []string // the whole environment, NAME=value
	Dir  string   // the working folder
	Mark string   // the value of MarkVariable
	// Output gets the standard output and error, written to by the process
	// itself. The file stays the caller's to close.
	Output *os.File
	// Account runs the process as another user; nil: as this one.
	Account *Account
	// Lock, from TakeLock, is inherited by the process and by all that it starts; nil:
	// there is none. It stays the caller's to close.
	Lock *os.File
	// Group bounds what the process and all that it starts may use; nil: not
	// at all.
	Group *Group
}

// Process is a service's main process.
type Process struct {
	id   ID
	mark string
	lock string // the path of its lock, "" for none
	done chan struct{}
	exit Exit
}

// Start starts a process in a group of its own. The errors are those of
// exec.Cmd.Start.
func Start(spec Spec) (*Process, error) {
	if len(spec.Argv) == 0 {
		return nil, errors.New("there is no command to start")
	}
	cmd := exec.Command(spec.Argv[0], spec.Argv[1:]...)
	cmd.Env = append(spec.Env[:len(spec.Env):len(spec.Env)], MarkVariable+"="+spec.Mark)
	cmd.Dir = spec.Dir
	cmd.Stdout, cmd.Stderr = spec.Output, spec.Output
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if spec.Account != nil {
		cmd.SysProcAttr.Credential = spec.Account.credential()
	}
	if spec.Lock != nil {
		cmd.ExtraFiles = make([]*os.File, lockFD-3+1)
		cmd.ExtraFiles[lockFD-3] = spec.Lock
	}
	leave, err := spec.Group.enter(cmd.SysProcAttr)
	if err != nil {
		return nil, err
	}
	err = cmd.Start()
	leave()
	if err != nil {
		return nil, err
	}
	p := &Process{mark: spec.Mark, done: make(chan struct{})}
	if spec.Lock != nil {
		p.lock = spec.Lock.Name()
	}
	p.id.PID = cmd.Process.Pid
	// The child can't be reaped before Wait, so its entry is still there.
	p.id.Start, _ = startOf(p.id.PID)
	waitedFor.Store(p.id.PID, true)
	go func() {
		err := cmd.Wait()
		waitedFor.Delete(p.id.PID)
		p.exit = exitOf(cmd.ProcessState, err)
		close(p.done)
	}()
	return p, nil
}

func exitOf(state *os.ProcessState, err error) Exit {
	if state == nil {
		return Exit{Known: err == nil}
	}
	e := Exit{Known: true, Code: state.ExitCode()}
	if ws, ok := state.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		e.Signal = signalName(ws.Signal())
	}
	return e
}

// Adopt watches a process that another keeper started, with its mark and the path of its
// lock, "" for none.
func Adopt(id ID, mark, lock string) (*Process, error) {
	if !id.Alive() {
		return nil, fmt.Errorf("the process with pid %d is gone", id.PID)
	}
	p := &Process{id: id, mark: mark, lock: lock, done: make(chan struct{})}
	go func() {
		awaitEnd(id)
		p.exit = reaped(id.PID)
		close(p.done)
	}()
	return p, nil
}

// waitedFor are the pids of the children that this process started itself.
var waitedFor sync.Map

// WaitedFor says that somebody in this process waits for a child that Start did not start, until
// release is called: nobody else learns how it ended.
func WaitedFor(pid int) (release func()) {
	waitedFor.Store(pid, true)
	return func() { waitedFor.Delete(pid) }
}

// reaped returns how a process ended that is this process's own child, although it
// didn't start it: a keeper that took another's place has that one's children.
func reaped(pid int) Exit {
	if _, ours := waitedFor.Load(pid); ours {
		return Exit{} // who started it learns it
	}
	var ws syscall.WaitStatus
	if got, err := syscall.Wait4(pid, &ws, syscall.WNOHANG, nil); err != nil || got != pid {
		return Exit{}
	}
	e := Exit{Known: true, Code: ws.ExitStatus()}
	if ws.Signaled() {
		e.Signal, e.Code = signalName(ws.Signal()), -1
	}
	return e
}

// ID tells which process it is.
func (p *Process) ID() ID { return p.id }

// Done is closed when the main process has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// Exit tells how the process ended, once Done is closed; before, it is zero.
func (p *Process) Exit() Exit {
	select {
	case <-p.done:
		return p.exit
	default:
		return Exit{}
	}
}

// Signal asks the main process to end with the named signal, "TERM".
func (p *Process) Signal(name string) error {
	sig, ok := signalNumbers[name]
	if !ok {
		return fmt.Errorf("unknown signal %q", name)
	}
	err := send(p.id, sig)
	if e, gone := readEntry(p.id.PID); gone == nil && e.halted {
		_ = send(p.id, syscall.SIGCONT) // it could not even take the signal
	}
	return err
}

// Remains lists the processes of the service that still run: the main
// process, its group, its descendants, and all that carry its mark.
func (p *Process) Remains() ([]ID, error) {
	c, err := TakeCensus()
	if err != nil {
		return nil, err
	}
	return c.Belonging(p.id, p.mark), nil
}

// End signals everything that remains of the service with the named signal,
// and says how many processes that were.
func (p *Process) End(name string) (int, error) {
	remains, err := p.Remains()
	if err != nil {
		return 0, err
	}
	Signal(remains, name)
	return len(remains), nil
}

// Signal sends the named signal to each of these processes that still runs.
// Those that are killed are halted before, so that none goes on because one
// that it waits for has ended.
func Signal(ids []ID, name string) {
	if name == "KILL" {
		for _, id := range ids {
			_ = send(id, syscall.SIGSTOP)
		}
	}
	for _, id := range ids {
		_ = send(id, signalNumbers[name])
	}
}

// Ask sends a signal to one process. It fails if the process has ended or may
// not be signalled by this user.
func Ask(id ID, name string) error {
	switch err := send(id, signalNumbers[name]); {
	case errors.Is(err, os.ErrProcessDone):
		return fmt.Errorf("pid %d has ended", id.PID)
	case err != nil:
		return fmt.Errorf("pid %d can't be sent SIG%s: %w", id.PID, name, err)
	}
	return nil
}

// KillAll kills everything that remains of the service and waits until it is
// gone, at most for the given time.
func (p *Process) KillAll(within time.Duration) error {
	deadline := time.Now().Add(within)
	pause := 2 * time.Millisecond
	for {
		c, err := TakeCensus()
		if err != nil {
			return err
		}
		remains := c.Belonging(p.id, p.mark)
		if len(remains) == 0 && p.lock != "" { // none that shows it, but for its lock
			_, remains = Holders(p.lock)
		}
		Signal(remains, "KILL")
		if len(remains) == 0 && !c.table.exitingOrphans() {
			return nil
		}
		if time.Now().After(deadline) {
			if len(remains) == 0 {
				return nil // who knows whose the others are
			}
			return fmt.Errorf("%d processes are still there %s after they were killed", len(remains), within)
		}
		time.Sleep(pause)
		pause = min(pause*2, 50*time.Millisecond)
	}
}

var signalNumbers = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP,
	"USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2, "KILL": syscall.SIGKILL,
}

func signalName(sig syscall.Signal) string {
	for name, n := range signalNumbers {
		if n == sig {
			return "SIG" + name
		}
	}
	switch sig {
	case syscall.SIGSEGV:
		return "SIGSEGV"
	case syscall.SIGABRT:
		return "SIGABRT"
	case syscall.SIGBUS:
		return "SIGBUS"
	case syscall.SIGPIPE:
		return "SIGPIPE"
	}
	return fmt.Sprintf("signal %d", int(sig))
}

// EndOrphans ends the processes that this one has inherited from services
// which took away all that tells whose they are: their group, their session
// and their environment. Nothing else may run below this process but what is detached.
func EndOrphans(within time.Duration) int {
	deadline := time.Now().Add(within)
	count := 0
	for round := 0; ; round++ {
		t, err := ReadTable()
		if err != nil {
			return count
		}
		var orphans []ID
		for pid, e := range t {
			if _, ours := waitedFor.Load(pid); e.Parent == os.Getpid() && !e.zombie && !ours && markOf(pid) != detached {
				orphans = append(orphans, t.Belonging(e.ID)...)
			}
		}
		if len(orphans) == 0 || time.Now().After(deadline) {
			return count
		}
		if round == 0 {
			count = len(orphans)
			Signal(orphans, "TERM")
		}
		if round > 5 {
			Signal(orphans, "KILL")
		}
		time.Sleep(50 * time.Millisecond)
	}
}
