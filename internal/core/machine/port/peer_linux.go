package port

import (
	"encoding/binary"
	"errors"
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
	case errors.Is(err, syscall.ENOENT):
		return 0, false, true
	case err != nil:
		return peerInProc(local, remote)
	}
	// One that nobody has any more shows as root's.
	return s.uid, s.inode != "0", true
}

// diagnoseOne asks for the socket that is at remote and connected to local.
func diagnoseOne(local, remote netip.AddrPort) (socket, error) {
	id := make([]byte, 48) // struct inet_diag_sockid
	binary.BigEndian.PutUint16(id[0:], remote.Port())
	binary.BigEndian.PutUint16(id[2:], local.Port())
	copy(id[4:20], remote.Addr().AsSlice())
	copy(id[20:36], local.Addr().AsSlice())
	binary.NativeEndian.PutUint64(id[40:], ^uint64(0)) // INET_DIAG_NOCOOKIE
	family := uint8(unix.AF_INET)
	if remote.Addr().Is6() {
		family = unix.AF_INET6
	}
	fd, err := askDiag(family, 0, ^uint32(0), id)
	if err != nil {
		return socket{}, err
	}
	defer unix.Close(fd)
	buffer := make([]byte, 4<<10)
	n, _, err := unix.Recvfrom(fd, buffer, 0)
	if err != nil {
		return socket{}, err
	}
	messages, err := syscall.ParseNetlinkMessage(buffer[:n])
	if err != nil || len(messages) == 0 {
		return socket{}, errDiag
	}
	return readDiag(messages[0])
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
