package proc

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Opened returns the processes, but for this one, that have a file open, as far
// as this user may see that (proc(5), "fd").
func Opened(path string) []int {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	var pids []int
	for _, l := range links {
		if target, err := os.Readlink(l); err != nil || target != real {
			continue
		}
		pid, _ := strconv.Atoi(strings.Split(l, "/")[2])
		if pid != os.Getpid() && (len(pids) == 0 || pids[len(pids)-1] != pid) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// NameOf returns the name of a process's program, "a process" if it is gone.
func NameOf(pid int) string {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/comm")
	if err != nil {
		return "a process"
	}
	return strings.TrimSpace(string(b))
}
