//go:build !linux

package snapshot

import (
	"errors"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func changeTime(st *syscall.Stat_t) int64 { return st.Ctimespec.Nano() }

func clone(_, _ *os.File) error { return errors.ErrUnsupported }

func nextData(f *os.File, at int64) (data, hole int64, err error) {
	info, err := f.Stat()
	if err != nil || at >= info.Size() {
		return -1, -1, err
	}
	return at, info.Size(), nil
}

// Mapped takes all files for mapped: this system does not tell.
func Mapped([]int) func(inode uint64) bool { return func(uint64) bool { return true } }

func flush(string) error { unix.Sync(); return nil }

func free(path string) (uint64, error) {
	var st unix.Statfs_t
	err := unix.Statfs(path, &st)
	return st.Bavail * uint64(st.Bsize), err
}
