// Package port tells which ports are free and who holds those that aren't.
package port

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
)

// Free reports whether a server could listen on the port of the loopback
// interface, by IPv4 and, where the machine has it, by IPv6.
func Free(port int) bool { return usable(port) == nil }

func usable(port int) error {
	if port < 0 || port > 65535 {
		return fmt.Errorf("%d is no port", port)
	}
	for _, a := range []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()} {
		if err := bind(netip.AddrPortFrom(a, uint16(port))); err != nil && (a.Is4() || hasIPv6()) {
			return err
		}
	}
	return nil
}

// ForbiddenError says that this user has no right to listen on a port.
type ForbiddenError struct{ Port int }

func (e *ForbiddenError) Error() string {
	return fmt.Sprintf("this user may not listen on port %d: ports under %d need a right that it doesn't have", e.Port, firstUnprivileged())
}

// Remedy says what to do, with another port that would work, 0 for none.
func (e *ForbiddenError) Remedy(other int) string {
	text := ""
	if other != 0 {
		text = fmt.Sprintf("write port = %d, which works, or ", other)
	}
	return text + fmt.Sprintf("allow it on this machine: sudo sysctl net.ipv4.ip_unprivileged_port_start=%d", e.Port)
}

// Forbidden returns an error if this user has no right to listen on the port,
// whoever else does.
func Forbidden(port int) *ForbiddenError {
	if err := usable(port); errors.Is(err, fs.ErrPermission) {
		return &ForbiddenError{Port: port}
	}
	return nil
}

// firstUnprivileged returns the first port that everybody may listen on (ip(7)).
func firstUnprivileged() int {
	b, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
	if n, bad := strconv.Atoi(strings.TrimSpace(string(b))); err == nil && bad == nil {
		return n
	}
	return 1024
}

func hasIPv6() bool {
	l, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		return false
	}
	l.Close()
	return true
}

// Pick returns the first free port from the wanted one upward that is not
// reserved.
func Pick(wanted int, reserved func(int) bool) (int, error) {
	for p := wanted; p < min(wanted+2000, 65536); p++ {
		if !reserved(p) && Free(p) {
			return p, nil
		}
	}
	return 0, fmt.Errorf("no port from %d to %d is free", wanted, min(wanted+1999, 65535))
}
