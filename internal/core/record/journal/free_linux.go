package journal

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// free gives back the space of a log before the offset. The file's length and
// the offsets in it stay as they are (fallocate(2)).
func free(path string, to int64) error {
	f, err := os.OpenFile(path, os.O_WRONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, 0, to)
}

// freed returns where a log begins that was freed, 0 for one that was not.
func freed(path string) int64 {
	f, err := os.Open(path)
	if err != nil {
		return 0
	}
	defer f.Close()
	return beginsAt(f)
}

// beginsAt returns the offset of the first byte that is there (lseek(2)).
func beginsAt(f *os.File) int64 {
	at, err := unix.Seek(int(f.Fd()), 0, unix.SEEK_DATA)
	if err != nil {
		return 0
	}
	return at
}
