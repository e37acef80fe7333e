package port

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
)

// Listening lists the addresses that these processes listen on by TCP, sorted
// by port. Processes that this user may not look into count as listening on
// none.
func Listening(pids []int) ([]netip.AddrPort, error) {
	sockets, err := listening()
	if err != nil {
		return nil, err
	}
	inodes := inodesOf(pids)
	var out []netip.AddrPort
	for _, s := range sockets {
		if inodes[s.inode] {
			out = append(out, netip.AddrPortFrom(s.address, uint16(s.port)))
		}
	}
	slices.SortFunc(out, func(a, b netip.AddrPort) int { return cmp.Or(int(a.Port())-int(b.Port()), a.Compare(b)) })
	return slices.Compact(out), nil
}

// Sockets are sockets that listen.
type Sockets []socket

// Exposed lists the sockets by which other machines can reach this one: all
// that listen on TCP, but not on a loopback address.
func Exposed() (Sockets, error) {
	all, err := listening()
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(s socket) bool { return s.address.Unmap().IsLoopback() })
	slices.SortFunc(all, func(a, b socket) int { return strings.Compare(a.inode, b.inode) })
	return all, nil
}

// Equal reports whether both are the same sockets.
func (s Sockets) Equal(other Sockets) bool {
	return (s == nil) == (other == nil) && slices.EqualFunc(s, other, func(a, b socket) bool { return a.inode == b.inode })
}

// Of lists the addresses of those that these processes have open.
func (s Sockets) Of(pids []int) []netip.AddrPort {
	if len(s) == 0 {
		return nil
	}
	var out []netip.AddrPort
	inodes := inodesOf(pids)
	for _, one := range s {
		if inodes[one.inode] {
			out = append(out, netip.AddrPortFrom(one.address, uint16(one.port)))
		}
	}
	return out
}

// Stranger finds who listens on a port when it isn't one of a service's own
// processes; nil if it is one of them, if nobody listens, or if that can't be
// seen and the socket is of the user uid. Own returns the pids of the
// service's main process, or of all its processes.
func Stranger(port, uid int, own func(all bool) []int) (*Holder, error) {
	sockets, err := listening()
	if err != nil {
		return nil, err
	}
	sockets = slices.DeleteFunc(sockets, func(s socket) bool { return s.port != port })
	if len(sockets) == 0 {
		return nil, nil
	}
	for _, all := range []bool{false, true} {
		inodes := inodesOf(own(all))
		if slices.ContainsFunc(sockets, func(s socket) bool { return inodes[s.inode] }) {
			return nil, nil
		}
	}
	holders, err := Holders(port)
	if err != nil || len(holders) == 0 {
		return nil, err
	}
	// A process with more rights than its user can't be looked into.
	unseen := func(s socket) bool { return s.uid == uid || s.uid < 0 }
	if holders[0].PID == 0 && slices.ContainsFunc(sockets, unseen) {
		return nil, nil
	}
	return &holders[0], nil
}
