package proc

import (
	"os"
	"time"
)

// Entry is a process in the system's table.
type Entry struct {
	ID
	Parent, Group, Session int
	// CPU is the processor time used so far, Memory the resident bytes, of
	// which Shared are shared with other processes.
	CPU            time.Duration
	Memory, Shared uint64
	Threads        int
	zombie         bool
	halted         bool // by SIGSTOP or a debugger
	exiting        bool // no longer in its program, and still giving back what it has
}

// Table is all processes of the machine at one time, by pid.
type Table map[int]*Entry

// Belonging lists the live processes of a service: its main process, its
// process group, those that are marked as its own, and all their descendants.
func (t Table) Belonging(main ID, marked ...int) []ID {
	children := map[int][]int{}
	for pid, e := range t {
		children[e.Parent] = append(children[e.Parent], pid)
	}
	seen := map[int]bool{}
	var out []ID
	var add func(pid int)
	add = func(pid int) {
		e := t[pid]
		if e == nil || seen[pid] {
			return
		}
		seen[pid] = true
		if !e.zombie {
			out = append(out, e.ID)
		}
		for _, child := range children[pid] {
			add(child)
		}
	}
	// The group outlives its leader, whose pid can't be given to another
	// process as long as the group exists. If the leader's pid has a process
	// with another start, the group is another one.
	if e := t[main.PID]; e == nil || e.Start == main.Start {
		add(main.PID)
		for pid, e := range t {
			if main.PID > 0 && (e.Group == main.PID || e.Session == main.PID) {
				add(pid)
			}
		}
	}
	for _, pid := range marked {
		add(pid)
	}
	return out
}

// exitingOrphans reports whether a process without its parent is about to end. It
// has given up its environment by then, so that nothing tells whose it is, but
// may still have memory that it shares with others attached.
func (t Table) exitingOrphans() bool {
	for _, e := range t {
		if e.exiting && (e.Parent == os.Getpid() || e.Parent == 1) {
			return true
		}
	}
	return false
}

// Usage adds up what the descendants of a process and itself have used: the
// processor time and the resident memory, counting shared pages once.
func (t Table) Usage(ids []ID) (cpu time.Duration, memory uint64) {
	for i, id := range ids {
		e := t[id.PID]
		if e == nil {
			continue
		}
		cpu += e.CPU
		memory += e.Memory
		if i > 0 {
			memory -= min(e.Shared, e.Memory)
		}
	}
	return cpu, memory
}
