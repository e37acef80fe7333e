package api

import "golang.org/x/sys/unix"

// credential asks for the user at the other end (SO_PEERCRED, unix(7)).
func credential(fd int) (uid int, err error) {
	cred, err := unix.GetsockoptUcred(fd, unix.SOL_SOCKET, unix.SO_PEERCRED)
	if err != nil {
		return 0, err
	}
	return int(cred.Uid), nil
}
