package proc

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ticks is the unit of processor times in /proc, USER_HZ, which Linux fixes
// at 100 for what it tells programs (proc(5)).
const ticks = time.Second / 100

// exitingFlag is PF_EXITING of include/linux/sched.h, in a process's flags.
const exitingFlag = 0x4

var pageSize = uint64(os.Getpagesize())

// bootID tells one run of the machine from the next, since start times are
// counted from the boot.
var bootID = sync.OnceValue(func() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
})

// Boot tells this run of the machine from others.
func Boot() string { return bootID() }

// SameBoot reports whether the process was started since the machine was.
func (id ID) SameBoot() bool {
	boot, _, _ := strings.Cut(id.Start, ":")
	return boot == bootID()
}

var errGone = errors.New("it is gone")

func startOf(pid int) (string, error) {
	e, err := readEntry(pid)
	if err != nil {
		return "", err
	}
	if e.zombie {
		return "", errGone
	}
	return e.Start, nil
}

// readEntry reads /proc/PID/stat (proc(5)). The second field, the command in
// parentheses, may itself hold blanks and parentheses.
func readEntry(pid int) (*Entry, error) {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return nil, err
	}
	end := bytes.LastIndexByte(b, ')')
	if end < 0 {
		return nil, errGone
	}
	f := strings.Fields(string(b[end+1:])) // f[0] is field 3, the state
	if len(f) < 22 {
		return nil, errGone
	}
	number := func(field int) int { n, _ := strconv.Atoi(f[field-3]); return n }
	return &Entry{
		ID:      ID{PID: pid, Start: bootID() + ":" + f[22-3]},
		Parent:  number(4),
		Group:   number(5),
		Session: number(6),
		CPU:     time.Duration(number(14)+number(15)) * ticks,
		Memory:  uint64(number(24)) * pageSize,
		Threads: number(20),
		zombie:  f[0] == "Z" || f[0] == "X",
		halted:  f[0] == "T",
		exiting: number(9)&exitingFlag != 0 && f[0] != "Z" && f[0] != "X",
	}, nil
}

// ReadTable reads the system's process table, without shared memory.
func ReadTable() (Table, error) {
	d, err := os.Open("/proc")
	if err != nil {
		return nil, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	t := make(Table, len(names))
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		switch e, err := readEntry(pid); {
		case err == nil:
			t[pid] = e
		case !gone(err) && !errors.Is(err, fs.ErrPermission):
			return nil, err // a table that lacks some would have them ended
		}
	}
	return t, nil
}

// MeasureShared fills in the shared memory of these processes.
func (t Table) MeasureShared(ids []ID) {
	for _, id := range ids {
		b, err := os.ReadFile("/proc/" + strconv.Itoa(id.PID) + "/statm")
		if f := strings.Fields(string(b)); err == nil && len(f) > 2 && t[id.PID] != nil {
			n, _ := strconv.ParseUint(f[2], 10, 64)
			t[id.PID].Shared = n * pageSize
		}
	}
}

// environ reads the variables that a process was started with; nil if that can't be done.
func environ(pid int) []string {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/environ")
	if err != nil {
		return nil
	}
	return strings.Split(string(b), "\x00")
}

// awaitEnd returns when the process has ended.
func awaitEnd(id ID) {
	fd, err := unix.PidfdOpen(id.PID, 0)
	if err != nil {
		pollEnd(id) // too old a system, or it ended meanwhile
		return
	}
	defer unix.Close(fd)
	if !id.Alive() { // the pid may be another's by now
		return
	}
	for {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, -1)
		if n > 0 {
			return
		}
		if err != nil && err != unix.EINTR {
			pollEnd(id)
			return
		}
	}
}

// send signals a process, if it is still the one that is meant: not another
// that got its pid meanwhile (pidfd_send_signal(2)).
func send(id ID, sig syscall.Signal) error {
	fd, err := unix.PidfdOpen(id.PID, 0)
	if err == unix.ESRCH {
		return os.ErrProcessDone
	}
	if err != nil { // too old a system, or no file can be opened any more
		if !id.Alive() {
			return os.ErrProcessDone
		}
		return syscall.Kill(id.PID, sig)
	}
	defer unix.Close(fd)
	if !id.Alive() {
		return os.ErrProcessDone
	}
	err = unix.PidfdSendSignal(fd, sig, nil, 0)
	if err == unix.ESRCH {
		return os.ErrProcessDone
	}
	return err
}

// standsStill reports whether every thread of a process is halted, or it has ended.
func standsStill(id ID) bool {
	threads, err := os.ReadDir("/proc/" + strconv.Itoa(id.PID) + "/task")
	if err != nil || !id.Alive() {
		return true
	}
	for _, t := range threads {
		b, err := os.ReadFile("/proc/" + strconv.Itoa(id.PID) + "/task/" + t.Name() + "/stat")
		if err != nil {
			continue // it has ended
		}
		end := bytes.LastIndexByte(b, ')')
		if end < 0 || end+2 >= len(b) || !bytes.ContainsRune([]byte("TtZXx"), rune(b[end+2])) {
			return false
		}
	}
	return true
}

// Subreap makes this process the parent of all its descendants that lose
// theirs, so that a program which detaches itself stays findable.
func Subreap() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// Reap collects the ended children of this process that are in the table and
// were in seen, the result of the call before. A child that somebody waits
// for is gone by then; what is left was inherited from services.
func Reap(t Table, seen map[int]bool) map[int]bool {
	found := map[int]bool{}
	for pid, e := range t {
		if e.Parent != os.Getpid() || !e.zombie {
			continue
		}
		if !seen[pid] {
			found[pid] = true
			continue
		}
		var ws unix.WaitStatus
		_, _ = unix.Wait4(pid, &ws, unix.WNOHANG, nil)
	}
	return found
}
