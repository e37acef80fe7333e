//go:build !linux

package proc

import (
	"errors"
	"os"
	"strconv"
	"syscall"
	"time"

	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"
)

var errGone = errors.New("it is gone")

func startOf(pid int) (string, error) {
	p, err := process.NewProcess(int32(pid))
	if err != nil {
		return "", err
	}
	at, err := p.CreateTime()
	if err != nil {
		return "", err
	}
	if states, err := p.Status(); err == nil && len(states) > 0 && states[0] == process.Zombie {
		return "", errGone
	}
	return strconv.FormatInt(at, 10), nil
}

// Boot tells this run of the machine from others.
func Boot() string {
	at, _ := host.BootTime()
	return strconv.FormatUint(at, 10)
}

// SameBoot reports whether the process was started since the machine was.
func (id ID) SameBoot() bool {
	started, err := strconv.ParseInt(id.Start, 10, 64)
	boot, err2 := host.BootTime()
	return err == nil && err2 == nil && started >= int64(boot)*1000
}

// send signals a process, if it is still the one that is meant.
func send(id ID, sig syscall.Signal) error {
	if !id.Alive() {
		return os.ErrProcessDone
	}
	return syscall.Kill(id.PID, sig)
}

// ReadTable reads the system's process table.
func ReadTable() (Table, error) {
	all, err := process.Processes()
	if err != nil {
		return nil, err
	}
	t := Table{}
	for _, p := range all {
		pid := int(p.Pid)
		start, err := startOf(pid)
		if err != nil {
			continue
		}
		e := &Entry{ID: ID{PID: pid, Start: start}}
		if parent, err := p.Ppid(); err == nil {
			e.Parent = int(parent)
		}
		e.Group, _ = unix.Getpgid(pid)
		e.Session, _ = unix.Getsid(pid)
		if times, err := p.Times(); err == nil {
			e.CPU = time.Duration((times.User + times.System) * float64(time.Second))
		}
		if m, err := p.MemoryInfo(); err == nil {
			e.Memory = m.RSS
		}
		if n, err := p.NumThreads(); err == nil {
			e.Threads = int(n)
		}
		t[pid] = e
	}
	return t, nil
}

// MeasureShared does nothing here: the system doesn't tell shared memory.
func (t Table) MeasureShared([]ID) {}

func environ(pid int) []string {
	p, err := process.NewProcess(int32(pid))
	if err != nil {
		return nil
	}
	env, _ := p.Environ()
	return env
}

func awaitEnd(id ID) { pollEnd(id) }

// standsStill reports whether a process is halted, or has ended.
func standsStill(id ID) bool {
	p, err := process.NewProcess(int32(id.PID))
	if err != nil || !id.Alive() {
		return true
	}
	states, err := p.Status()
	return err != nil || len(states) > 0 && (states[0] == process.Stop || states[0] == process.Zombie)
}

// Subreap does nothing here: the system has no such thing.
func Subreap() error { return nil }

// Reap does nothing here: nothing is inherited.
func Reap(Table, map[int]bool) map[int]bool { return nil }

// readEntry is not known here beyond what ReadTable tells.
func readEntry(int) (*Entry, error) { return nil, errGone }
