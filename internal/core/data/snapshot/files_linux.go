package snapshot

import (
	"bufio"
	"errors"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

func changeTime(st *syscall.Stat_t) int64 { return st.Ctim.Nano() }

// clone has a file share the blocks of another, where the file system can (FICLONE).
func clone(to, from *os.File) error { return unix.IoctlFileClone(int(to.Fd()), int(from.Fd())) }

// nextData returns where a file's next data begins and ends, from a place on; -1 if there is none.
func nextData(f *os.File, at int64) (data, hole int64, err error) {
	data, err = unix.Seek(int(f.Fd()), at, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		return -1, -1, nil
	}
	if err != nil {
		return 0, 0, err
	}
	hole, err = unix.Seek(int(f.Fd()), data, unix.SEEK_HOLE)
	return data, hole, err
}

// Mapped returns what tells, by its inode, whether processes have a file mapped so that they
// can write to it: its times do not tell whether they did.
func Mapped(pids []int) func(inode uint64) bool {
	out := map[uint64]bool{}
	for _, pid := range pids {
		f, err := os.Open("/proc/" + strconv.Itoa(pid) + "/maps")
		if err != nil {
			continue // it has ended
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			// 7f12…-7f13… rw-s 00000000 fe:00 1234 /path
			if l := strings.Fields(lines.Text()); len(l) > 5 && strings.HasPrefix(l[1], "rw") && l[1][3] == 's' {
				if n, err := strconv.ParseUint(l[4], 10, 64); err == nil {
					out[n] = true
				}
			}
		}
		f.Close()
	}
	return func(inode uint64) bool { return out[inode] }
}

// flush has the system write a file system's changes to its disk.
func flush(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}

// free returns how much room is left where a path is, in bytes.
func free(path string) (uint64, error) {
	var st unix.Statfs_t
	err := unix.Statfs(path, &st)
	return st.Bavail * uint64(st.Bsize), err
}
