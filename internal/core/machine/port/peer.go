package port

import (
	"net"
	"net/netip"
	"os"
)

// Strangers reports whether the other end of a connection within this machine is a process of
// another user than this one and root. Where the system can't tell it is false.
func Strangers(local, remote net.Addr) bool {
	l, err1 := netip.ParseAddrPort(local.String())
	r, err2 := netip.ParseAddrPort(remote.String())
	if err1 != nil || err2 != nil || !r.Addr().Unmap().IsLoopback() {
		return false
	}
	uid, is, known := peer(l, r)
	return known && (!is || uid != 0 && uid != os.Geteuid())
}
