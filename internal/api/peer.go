package api

import "net"

// peerUID returns the user at the other end of a Unix socket.
func peerUID(conn *net.UnixConn) (int, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var uid int
	var failed error
	if err := raw.Control(func(fd uintptr) { uid, failed = credential(int(fd)) }); err != nil {
		return 0, err
	}
	return uid, failed
}
