//go:build !linux

package api

import (
	"net"

	"golang.org/x/sys/unix"
)

// peerUID returns the user at the other end of a Unix socket (LOCAL_PEERCRED,
// unix(4)).
func peerUID(conn *net.UnixConn) (int, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Xucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		cred, failed = unix.GetsockoptXucred(int(fd), unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	}); err != nil {
		return 0, err
	}
	if failed != nil {
		return 0, failed
	}
	return int(cred.Uid), nil
}
