package port

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/sys/unix"

	"neighbour/internal/core/machine/lazyregexp"
)

// listening finds the sockets that listen.
func listening() ([]socket, error) {
	four, err := diagnose(unix.AF_INET)
	if err != nil {
		return listeningInProc() // not every container lets the kernel be asked
	}
	six, err := diagnose(unix.AF_INET6)
	if err != nil {
		return listeningInProc()
	}
	return append(four, six...), nil
}

// listeningInProc reads the sockets that listen from /proc/net/tcp and tcp6
// (proc_net_tcp in the kernel's documentation of networking).
func listeningInProc() ([]socket, error) {
	var out []socket
	for _, name := range []string{"tcp", "tcp6"} {
		b, err := os.ReadFile("/proc/net/" + name)
		if err != nil {
			if name == "tcp6" { // a machine without IPv6
				continue
			}
			return nil, err
		}
		for line := range strings.Lines(string(b)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" { // TCP_LISTEN
				continue
			}
			address, port, ok := parseAddress(f[1])
			uid, err := strconv.Atoi(f[7])
			if ok && err == nil {
				out = append(out, socket{port: port, address: address, uid: uid, inode: f[9]})
			}
		}
	}
	return out, nil
}

// parseAddress reads "0100007F:1538": the address as words of 32 bits in the
// machine's order, and the port.
func parseAddress(text string) (netip.Addr, int, bool) {
	words, portText, _ := strings.Cut(text, ":")
	port, err := strconv.ParseUint(portText, 16, 16)
	b, err2 := hex.DecodeString(words)
	if err != nil || err2 != nil || len(b)%4 != 0 {
		return netip.Addr{}, 0, false
	}
	for i := 0; i < len(b); i += 4 {
		binary.NativeEndian.PutUint32(b[i:], binary.BigEndian.Uint32(b[i:]))
	}
	a, ok := netip.AddrFromSlice(b)
	return a.Unmap(), int(port), ok
}

// ownersOf finds the process behind each socket by its inode: of several that
// share one, the oldest, which has the lowest pid as a rule. Those of other
// users can't be seen without rights.
func ownersOf(sockets []socket) map[string]int {
	wanted, owners := map[string]bool{}, map[string]int{}
	for _, s := range sockets {
		wanted[s.inode] = true
	}
	if len(wanted) == 0 {
		return owners
	}
	processes, _ := filepath.Glob("/proc/[0-9]*/fd")
	for _, dir := range processes {
		pid, _ := strconv.Atoi(strings.Split(dir, "/")[2])
		for _, inode := range socketsIn(dir) {
			if before := owners[inode]; wanted[inode] && (before == 0 || pid < before) {
				owners[inode] = pid
			}
		}
	}
	return owners
}

// socketsIn lists the inodes of the sockets in a process's folder of open files,
// none if this user may not look into it.
func socketsIn(dir string) []string {
	d, err := os.Open(dir)
	if err != nil {
		return nil
	}
	names, _ := d.Readdirnames(-1)
	d.Close()
	var out []string
	for _, n := range names {
		target, err := os.Readlink(dir + "/" + n)
		if inode, ok := strings.CutPrefix(target, "socket:["); err == nil && ok {
			out = append(out, strings.TrimSuffix(inode, "]"))
		}
	}
	return out
}

// inodesOf finds the sockets that these processes have open.
func inodesOf(pids []int) map[string]bool {
	out := map[string]bool{}
	for _, pid := range pids {
		for _, inode := range socketsIn("/proc/" + strconv.Itoa(pid) + "/fd") {
			out[inode] = true
		}
	}
	return out
}

// describe fills in what /proc tells of the process.
func (h *Holder) describe() {
	dir := "/proc/" + strconv.Itoa(h.PID) + "/"
	if b, err := os.ReadFile(dir + "comm"); err == nil {
		h.Command = strings.TrimSpace(string(b))
	}
	if b, err := os.ReadFile(dir + "cmdline"); err == nil {
		h.Line = printable(strings.TrimSpace(strings.ReplaceAll(string(b), "\x00", " ")))
	}
	h.Dir, _ = os.Readlink(dir + "cwd")
	if b, err := os.ReadFile(dir + "cgroup"); err == nil {
		h.Unit = unitOf(string(b))
	}
	if b, err := os.ReadFile(dir + "stat"); err == nil {
		// Field 22 is the start in hundredths of a second since the boot
		// (proc(5)); the command in brackets may hold blanks.
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		if ticks, err := strconv.ParseInt(f[22-3], 10, 64); err == nil && !bootTime().IsZero() {
			h.Started = bootTime().Add(time.Duration(ticks) * time.Second / 100)
		}
	}
}

// printable takes out what is no text: any program can choose its command line.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, text)
}

var bootTime = sync.OnceValue(func() time.Time {
	b, _ := os.ReadFile("/proc/stat")
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "btime "); ok {
			if s, err := strconv.ParseInt(strings.TrimSpace(rest), 10, 64); err == nil {
				return time.Unix(s, 0)
			}
		}
	}
	return time.Time{}
})

var unit = lazyregexp.New(`/system\.slice/(?:.*/)?([^/\n]+\.service)`)

// unitOf finds the system service in the control groups of a process
// (systemd.slice(5)).
func unitOf(groups string) string {
	if m := unit.FindStringSubmatch(groups); m != nil {
		return m[1]
	}
	return ""
}

// Parents lists the pids of a process and its ancestors, nearest first.
func Parents(pid int) []int {
	var out []int
	for pid > 1 && len(out) < 64 {
		out = append(out, pid)
		b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
		if err != nil {
			break
		}
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		pid, _ = strconv.Atoi(f[4-3])
	}
	return out
}
