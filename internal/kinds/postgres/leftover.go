package postgres

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"neighbour/internal/core/kind"
)

// awaitBackends waits until no process of a server that was killed has the
// cluster's shared memory any more: as long as one has, a new server refuses to
// start. They end by themselves as soon as they notice, and by then nothing but
// that memory tells that they belong to this cluster.
func awaitBackends(ctx context.Context, in *kind.Instance, report func(string)) {
	b, err := os.ReadFile(filepath.Join(cluster(in), "postmaster.pid"))
	if err != nil {
		return // it was stopped, as it should be
	}
	segment := sharedMemory(string(b))
	for began, said := time.Now(), false; segment != "" && time.Since(began) < 10*time.Second; {
		table, err := os.ReadFile("/proc/sysvipc/shm")
		if err != nil || !attached(string(table), segment) {
			return // where the system doesn't tell, the server will
		}
		if !said && time.Since(began) > 200*time.Millisecond {
			report("waiting for the processes of the server before it to end")
			said = true
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// removeEmptyLocks removes lock files without a process id, as a server leaves them that is killed
// between creating and writing them. A new server refuses to start while one exists (miscinit.c).
// Only the project's keeper starts servers here, one at a time, so nobody is just writing it.
func removeEmptyLocks(in *kind.Instance) error {
	sockets, err := filepath.Glob(filepath.Join(in.Run, ".s.PGSQL.*.lock"))
	if err != nil {
		return err
	}
	for _, lock := range append(sockets, filepath.Join(cluster(in), "postmaster.pid")) {
		if st, err := os.Lstat(lock); err == nil && st.Mode().IsRegular() && st.Size() == 0 {
			if err := os.Remove(lock); err != nil {
				return fmt.Errorf("a server that was killed has left an empty lock file: %w", err)
			}
		}
	}
	return nil
}

// sharedMemory returns the id of the System V shared memory segment that is
// named on the seventh line of postmaster.pid (pidfile.h), "" if none is yet.
func sharedMemory(pidFile string) string {
	lines := strings.Split(pidFile, "\n")
	if len(lines) < 7 {
		return ""
	}
	if f := strings.Fields(lines[6]); len(f) == 2 {
		return f[1]
	}
	return ""
}

// attached reports whether a process has the segment with this id attached,
// according to /proc/sysvipc/shm: key, shmid, perms, size, cpid, lpid, nattch, …
func attached(table, id string) bool {
	for line := range strings.Lines(table) {
		if f := strings.Fields(line); len(f) > 6 && f[1] == id {
			return f[6] != "0"
		}
	}
	return false
}
