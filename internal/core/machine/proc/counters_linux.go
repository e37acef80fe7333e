package proc

import (
	"bytes"
	"os"
	"strconv"
)

// Counters are what a process has open, and what it has read from and written to
// disk so far. What this user may not see is 0.
type Counters struct {
	Files         int
	Read, Written uint64
}

// CountersOf returns the counters of processes together (proc(5), "fd" and "io").
func CountersOf(ids []ID) (c Counters) {
	for _, id := range ids {
		dir := "/proc/" + strconv.Itoa(id.PID)
		if info, err := os.Stat(dir + "/fd"); err == nil && info.Size() > 0 {
			c.Files += int(info.Size()) // since Linux 6.2 its size is how many there are
		} else if d, err := os.Open(dir + "/fd"); err == nil {
			names, _ := d.Readdirnames(-1)
			d.Close()
			c.Files += len(names)
		}
		b, err := os.ReadFile(dir + "/io")
		if err != nil {
			continue
		}
		for line := range bytes.Lines(b) {
			name, value, _ := bytes.Cut(bytes.TrimSpace(line), []byte(": "))
			n, _ := strconv.ParseUint(string(value), 10, 64)
			switch string(name) {
			case "read_bytes":
				c.Read += n
			case "write_bytes":
				c.Written += n
			}
		}
	}
	return c
}

// MachineUse is what the machine as a whole uses.
type MachineUse struct {
	Busy, Idle    uint64 // processor time so far, in ticks, of all processors
	Memory, Total uint64 // bytes in use, and in all
}

// ReadMachine reads what the machine uses (proc(5), "stat" and "meminfo").
func ReadMachine() (m MachineUse, err error) {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return m, err
	}
	first, _, _ := bytes.Cut(b, []byte("\n"))
	for i, f := range bytes.Fields(first) {
		n, _ := strconv.ParseUint(string(f), 10, 64)
		switch {
		case i == 0 || i > 8: // the name; guests are in user time already
		case i == 4 || i == 5:
			m.Idle += n
		default:
			m.Busy += n
		}
	}
	if b, err = os.ReadFile("/proc/meminfo"); err != nil {
		return m, err
	}
	var available uint64
	for line := range bytes.Lines(b) {
		f := bytes.Fields(line)
		if len(f) < 2 {
			continue
		}
		n, _ := strconv.ParseUint(string(f[1]), 10, 64)
		switch string(f[0]) {
		case "MemTotal:":
			m.Total = n << 10
		case "MemAvailable:":
			available = n << 10
		}
	}
	m.Memory = m.Total - min(available, m.Total)
	return m, nil
}
