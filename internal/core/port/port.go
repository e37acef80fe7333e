// Package port tells which ports are free and who holds those that aren't.
package port

import (
	"fmt"
	"net"
	"strconv"
)

// Free says whether a server could listen on the port of the loopback
// interface, by IPv4 and, where the machine has it, by IPv6.
func Free(port int) bool {
	for _, host := range []string{"127.0.0.1", "::1"} {
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
		if err != nil {
			if host == "::1" && !hasIPv6() {
				continue
			}
			return false
		}
		l.Close()
	}
	return true
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
