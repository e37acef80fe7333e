package port

import (
	"net/netip"

	"golang.org/x/sys/unix"
)

// bind tells whether a server could listen on an address. It does not listen itself: for as long
// as it did, a server that just starts could not. A socket that is only bound is in the way of
// none that has SO_REUSEADDR, as servers do, and fails if another listens (socket(7)).
func bind(a netip.AddrPort) error {
	family, address := unix.AF_INET6, unix.Sockaddr(&unix.SockaddrInet6{Port: int(a.Port()), Addr: a.Addr().As16()})
	if a.Addr().Is4() {
		family, address = unix.AF_INET, &unix.SockaddrInet4{Port: int(a.Port()), Addr: a.Addr().As4()}
	}
	fd, err := unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
		return err
	}
	return unix.Bind(fd, address)
}
