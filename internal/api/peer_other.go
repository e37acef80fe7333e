//go:build !linux

package api

import "golang.org/x/sys/unix"

// credential asks for the user at the other end (LOCAL_PEERCRED, unix(4)).
func credential(fd int) (uid int, err error) {
	cred, err := unix.GetsockoptXucred(fd, unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	if err != nil {
		return 0, err
	}
	return int(cred.Uid), nil
}
