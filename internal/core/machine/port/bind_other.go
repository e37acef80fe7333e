//go:build !linux

package port

import (
	"net"
	"net/netip"
)

// bind tells whether a server could listen on an address.
func bind(a netip.AddrPort) error {
	l, err := net.Listen("tcp", a.String())
	if err != nil {
		return err
	}
	return l.Close()
}
