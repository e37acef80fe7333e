package api

import (
	"net"

	"golang.org/x/sys/unix"
)

// peerUID returns the user at the other end of a Unix socket (SO_PEERCRED,
// unix(7)).
func peerUID(conn *net.UnixConn) (int, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		cred, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil {
		return 0, err
	}
	if failed != nil {
		return 0, failed
	}
	return int(cred.Uid), nil
}
