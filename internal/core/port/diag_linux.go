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
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return nil, err
	}
	request := make([]byte, unix.NLMSG_HDRLEN+diagRequestSize)
	native := binary.NativeEndian
	native.PutUint32(request[0:], uint32(len(request)))
	native.PutUint16(request[4:], unix.SOCK_DIAG_BY_FAMILY)
	native.PutUint16(request[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	body := request[unix.NLMSG_HDRLEN:]
	body[0], body[1] = family, unix.IPPROTO_TCP
	native.PutUint32(body[4:], 1<<stateListen)
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, err
	}
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
			case unix.NLMSG_ERROR:
				if len(m.Data) >= 4 {
					return nil, fmt.Errorf("%w: %w", errDiag, syscall.Errno(-int32(native.Uint32(m.Data))))
				}
				return nil, errDiag
			}
			s, err := readDiag(m.Data)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
	}
}

// readDiag reads a struct inet_diag_msg.
func readDiag(b []byte) (socket, error) {
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
