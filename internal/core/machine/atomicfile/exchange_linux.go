package atomicfile

import "golang.org/x/sys/unix"

// exchange lets two files change names, at once.
func exchange(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}
