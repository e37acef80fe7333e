package port

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// Sizes and places in the messages of sock_diag(7): struct inet_diag_req_v2,
// and struct inet_diag_msg, whose id has the port and address at its start.
const (
	diagRequestSize = 56
	diagAnswerSize  = 72
	diagPort        = 4
	diagAddress     = 8
	diagUID         = 64
	diagInode       = 68
	stateListen     = 10 // TCP_LISTEN
)

var errDiag = errors.New("the kernel's answer about sockets can't be read")

// diagnose asks the kernel for the sockets of an address family that listen
// (sock_diag(7)). It looks at those alone, where /proc/net/tcp goes through all
// connections that there could be.
func diagnose(family uint8) ([]socket, error) {
	fd, err := askDiag(family, unix.NLM_F_DUMP, 1<<stateListen, nil)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	var out []socket
	for buffer := make([]byte, 64<<10); ; {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return nil, err
		}
		messages, err := syscall.ParseNetlinkMessage(buffer[:n])
		if err != nil {
			return nil, err
		}
		for _, m := range messages {
			switch m.Header.Type {
			case unix.NLMSG_DONE:
				return out, nil
			}
			s, err := readDiag(m)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
	}
}

// askDiag asks the kernel for sockets of TCP in some states (a bit each), of an address family: all,
// or the one with an id (struct inet_diag_sockid). The answers are read from the descriptor, which
// is the caller's to close.
func askDiag(family uint8, flags uint16, states uint32, id []byte) (fd int, err error) {
	fd, err = unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return -1, err
	}
	request := make([]byte, unix.NLMSG_HDRLEN+diagRequestSize)
	native := binary.NativeEndian
	native.PutUint32(request[0:], uint32(len(request)))
	native.PutUint16(request[4:], unix.SOCK_DIAG_BY_FAMILY)
	native.PutUint16(request[6:], unix.NLM_F_REQUEST|flags)
	body := request[unix.NLMSG_HDRLEN:]
	body[0], body[1] = family, unix.IPPROTO_TCP
	native.PutUint32(body[4:], states)
	copy(body[8:], id)
	if err = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err == nil {
		err = unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK})
	}
	if err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

// readDiag reads a struct inet_diag_msg, or what the kernel says of an error.
func readDiag(m syscall.NetlinkMessage) (socket, error) {
	b := m.Data
	if m.Header.Type == unix.NLMSG_ERROR && len(b) >= 4 {
		return socket{}, fmt.Errorf("%w: %w", errDiag, syscall.Errno(-int32(binary.NativeEndian.Uint32(b))))
	}
	if len(b) < diagAnswerSize {
		return socket{}, errDiag
	}
	size := 4
	if b[0] == unix.AF_INET6 {
		size = 16
	}
	address, _ := netip.AddrFromSlice(b[diagAddress : diagAddress+size])
	return socket{
		port: int(binary.BigEndian.Uint16(b[diagPort:])), address: address.Unmap(),
		uid: int(binary.NativeEndian.Uint32(b[diagUID:])), inode: strconv.FormatUint(uint64(binary.NativeEndian.Uint32(b[diagInode:])), 10),
	}, nil
}
