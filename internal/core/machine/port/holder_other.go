//go:build !linux

package port

import (
	"net/netip"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// listening asks lsof(8) for the sockets that listen: its -F output has a
// field on a line each, whose first letter tells which. In place of an inode
// there is the pid itself.
func listening() ([]socket, error) {
	out, err := exec.Command("lsof", "-nP", "-iTCP", "-sTCP:LISTEN", "-F", "pun").Output()
	if len(out) == 0 && err != nil {
		if _, none := err.(*exec.ExitError); none { // it found nothing
			return nil, nil
		}
		return nil, err
	}
	return parseLsof(string(out)), nil
}

func parseLsof(text string) []socket {
	var out []socket
	s := socket{uid: -1}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		switch value := line[1:]; line[0] {
		case 'p':
			s = socket{uid: -1, inode: value}
		case 'u':
			s.uid, _ = strconv.Atoi(value)
		case 'n':
			host, port, ok := cutLast(value, ':')
			n, err := strconv.Atoi(port)
			if !ok || err != nil {
				continue
			}
			s.port = n
			s.address, err = netip.ParseAddr(strings.Trim(host, "[]"))
			if err != nil { // "*"
				s.address = netip.IPv6Unspecified()
			}
			out = append(out, s)
		}
	}
	return out
}

func cutLast(s string, c byte) (before, after string, ok bool) {
	i := strings.LastIndexByte(s, c)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

func ownersOf(sockets []socket) map[string]int {
	owners := map[string]int{}
	for _, s := range sockets {
		owners[s.inode], _ = strconv.Atoi(s.inode)
	}
	return owners
}

// inodesOf returns the sockets of these processes, in place of whose inodes there
// are the pids.
func inodesOf(pids []int) map[string]bool {
	out := map[string]bool{}
	for _, pid := range pids {
		out[strconv.Itoa(pid)] = true
	}
	return out
}

// describe fills in what the system tells of the process.
func (h *Holder) describe() {
	p, err := process.NewProcess(int32(h.PID))
	if err != nil {
		return
	}
	h.Command, _ = p.Name()
	h.Line, _ = p.Cmdline()
	h.Dir, _ = p.Cwd()
	if ms, err := p.CreateTime(); err == nil {
		h.Started = time.UnixMilli(ms)
	}
}

// Parents lists the pids of a process and its ancestors, nearest first.
func Parents(pid int) []int {
	var out []int
	for pid > 1 && len(out) < 64 {
		out = append(out, pid)
		p, err := process.NewProcess(int32(pid))
		if err != nil {
			break
		}
		parent, err := p.Ppid()
		if err != nil {
			break
		}
		pid = int(parent)
	}
	return out
}
