// Package port tells which ports are free and who holds those that aren't.
package port

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	gopsnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
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

// Holder is the process that listens on a port. What can't be seen, because
// the process is another user's, is left empty.
type Holder struct {
	PID     int
	Command string // the program's name
	Dir     string // its working folder
	User    string
	Started time.Time
}

// FindHolder finds who listens on a port; nil if nobody seems to, and a
// Holder without a pid if it can't be seen who.
func FindHolder(port int) *Holder {
	if Free(port) {
		return nil
	}
	h := &Holder{}
	conns, err := gopsnet.Connections("tcp")
	if err != nil {
		return h
	}
	for _, c := range conns {
		if c.Status == "LISTEN" && int(c.Laddr.Port) == port && c.Pid > 0 {
			// A forked server shares its socket: the oldest process, which
			// has the lowest pid as a rule, is the one to name.
			if h.PID == 0 || int(c.Pid) < h.PID {
				h.PID = int(c.Pid)
			}
		}
	}
	if h.PID == 0 {
		return h
	}
	p, err := process.NewProcess(int32(h.PID))
	if err != nil {
		return h
	}
	h.Command, _ = p.Name()
	h.Dir, _ = p.Cwd()
	h.User, _ = p.Username()
	if ms, err := p.CreateTime(); err == nil {
		h.Started = time.UnixMilli(ms)
	}
	return h
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

// String describes the holder: "python3, pid 812, started 2 h ago in
// ~/old-shop".
func (h Holder) String() string {
	if h.PID == 0 {
		return "a process that can't be seen (another user's)"
	}
	s := fmt.Sprintf("%s, pid %d", h.Command, h.PID)
	if h.Command == "" {
		s = fmt.Sprintf("pid %d", h.PID)
	}
	if !h.Started.IsZero() {
		s += ", started " + ago(time.Since(h.Started))
	}
	if h.Dir != "" {
		s += " in " + shorten(h.Dir)
	}
	return s
}

func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

func shorten(dir string) string {
	if home, err := os.UserHomeDir(); err == nil && len(dir) > len(home) && dir[:len(home)+1] == home+"/" {
		return "~" + dir[len(home):]
	}
	return dir
}
