//go:build !linux

package proc

import (
	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/mem"
)

// Counters are what a process has open, and what it has read from and written to
// disk so far. What this user may not see is 0.
type Counters struct {
	Files         int
	Read, Written uint64
}

// CountersOf returns nothing here: the system doesn't tell.
func CountersOf([]ID) Counters { return Counters{} }

// MachineUse is what the machine as a whole uses.
type MachineUse struct {
	Busy, Idle    uint64 // processor time so far, in milliseconds, of all processors
	Memory, Total uint64 // bytes in use, and in all
}

// ReadMachine reads what the machine uses.
func ReadMachine() (m MachineUse, err error) {
	times, err := cpu.Times(false)
	if err != nil || len(times) == 0 {
		return m, err
	}
	all, idle := times[0].Total(), times[0].Idle+times[0].Iowait
	m.Busy, m.Idle = uint64((all-idle)*1000), uint64(idle*1000)
	v, err := mem.VirtualMemory()
	if err != nil {
		return m, err
	}
	m.Memory, m.Total = v.Used, v.Total
	return m, nil
}
