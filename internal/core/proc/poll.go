package proc

import "time"

// pollEnd is awaitEnd where the system can't tell of the end by itself.
func pollEnd(id ID) {
	for id.Alive() {
		time.Sleep(250 * time.Millisecond)
	}
}

// Mark returns the mark of a service's processes.
func Mark(dir, service string) string { return dir + ":" + service }

// MarkOf reads the mark of a process, "" if it has none or can't be read.
func MarkOf(pid int) string { return markOf(pid) }
