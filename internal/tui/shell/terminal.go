package shell

import (
	"context"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// gone waits until the terminal was closed, or the context ends, and reports
// whether it was the terminal. Most often a signal tells that a terminal was
// closed, but not to a program that was begun by another user's session: to it
// a closed terminal is an input that never comes to an end.
func gone(ctx context.Context, terminal *os.File) bool {
	for ctx.Err() == nil {
		// No event is asked for: the closing is always told.
		fds := []unix.PollFd{{Fd: int32(terminal.Fd())}}
		n, err := unix.Poll(fds, 1000)
		switch {
		case n > 0:
			return true
		case err != nil && !errors.Is(err, unix.EINTR):
			return false
		}
	}
	return false
}
