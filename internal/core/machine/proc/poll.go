package proc

import (
	"strings"
	"time"
)

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

func markOf(pid int) string {
	for _, v := range environ(pid) {
		if mark, is := strings.CutPrefix(v, MarkVariable+"="); is {
			return mark
		}
	}
	return ""
}

// Variables returns the variables that a process was started with, as far as they can be read;
// some programs write over them. It is nil for another user's process.
func Variables(pid int) map[string]string {
	var all map[string]string
	for _, v := range environ(pid) {
		if name, value, is := strings.Cut(v, "="); is && name != "" {
			if all == nil {
				all = map[string]string{}
			}
			if _, twice := all[name]; !twice { // the first counts, as for getenv
				all[name] = value
			}
		}
	}
	return all
}
