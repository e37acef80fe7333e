package port

import (
	"encoding/binary"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// peer asks the kernel for the socket at the other end of a connection of this machine
// (sock_diag(7)), or reads the list of them where it can't be asked.
func peer(local, remote netip.AddrPort) (uid int, is, known bool) {
	s, err := diagnoseOne(local, remote)
	switch {
	case err == syscall.ENOENT:
		return 0, false, true
	case err != nil:
		return peerInProc(local, remote)
	}
	// One that nobody has any more shows as root's.
	return s.uid, s.inode != "0", true
}

// diagnoseOne asks for the socket that is at remote and connected to local.
func diagnoseOne(local, remote netip.AddrPort) (socket, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return socket{}, err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return socket{}, err
	}
	request := make([]byte, unix.NLMSG_HDRLEN+diagRequestSize)
	native := binary.NativeEndian
	native.PutUint32(request[0:], uint32(len(request)))
	native.PutUint16(request[4:], unix.SOCK_DIAG_BY_FAMILY)
	native.PutUint16(request[6:], unix.NLM_F_REQUEST)
	body := request[unix.NLMSG_HDRLEN:]
	body[0], body[1] = unix.AF_INET, unix.IPPROTO_TCP
	if remote.Addr().Is6() {
		body[0] = unix.AF_INET6
	}
	native.PutUint32(body[4:], ^uint32(0)) // in any state
	id := body[8:]                         // struct inet_diag_sockid
	binary.BigEndian.PutUint16(id[0:], remote.Port())
	binary.BigEndian.PutUint16(id[2:], local.Port())
	copy(id[4:20], remote.Addr().AsSlice())
	copy(id[20:36], local.Addr().AsSlice())
	native.PutUint64(id[40:], ^uint64(0)) // INET_DIAG_NOCOOKIE
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return socket{}, err
	}
	buffer := make([]byte, 4<<10)
	n, _, err := unix.Recvfrom(fd, buffer, 0)
	if err != nil {
		return socket{}, err
	}
	messages, err := syscall.ParseNetlinkMessage(buffer[:n])
	if err != nil || len(messages) == 0 {
		return socket{}, errDiag
	}
	m := messages[0]
	if m.Header.Type == unix.NLMSG_ERROR {
		if len(m.Data) < 4 {
			return socket{}, errDiag
		}
		return socket{}, syscall.Errno(-int32(native.Uint32(m.Data)))
	}
	return readDiag(m.Data)
}

// peerInProc looks for the socket in /proc/net/tcp and tcp6.
func peerInProc(local, remote netip.AddrPort) (uid int, is, known bool) {
	for _, name := range []string{"tcp", "tcp6"} {
		b, err := os.ReadFile("/proc/net/" + name)
		if err != nil {
			continue
		}
		known = true
		for line := range strings.Lines(string(b)) {
			f := strings.Fields(line)
			if len(f) < 10 {
				continue
			}
			from, fromPort, ok1 := parseAddress(f[1])
			to, toPort, ok2 := parseAddress(f[2])
			if !ok1 || !ok2 || from != remote.Addr().Unmap() || to != local.Addr().Unmap() || fromPort != int(remote.Port()) || toPort != int(local.Port()) {
				continue
			}
			uid, err := strconv.Atoi(f[7])
			return uid, err == nil && f[9] != "0", true
		}
	}
	return 0, false, known
}
