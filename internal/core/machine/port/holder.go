package port

import (
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/machine/proc"
)

// Holder is a process that listens on a port. What can't be seen, because the
// process is another user's, is left empty.
type Holder struct {
	Port int `json:"port"`
	// Addresses are those that it listens on, such as 127.0.0.1 and ::1.
	Addresses []netip.Addr `json:"addresses"`
	PID       int          `json:"pid,omitempty"`
	Command   string       `json:"command,omitempty"` // the program's name
	Line      string       `json:"line,omitempty"`    // its command line
	Dir       string       `json:"dir,omitempty"`     // its working folder
	User      string       `json:"user,omitempty"`
	Started   time.Time    `json:"started,omitzero"`
	// Unit is the system service that it is part of: "redis-server.service".
	Unit string `json:"unit,omitempty"`
}

// socket is a socket that listens.
type socket struct {
	port    int
	address netip.Addr
	uid     int
	inode   string
}

// Holders finds who listens on these ports, or on any if none is named. A
// port may have several: one for each address, or several processes that
// share a socket, of which the oldest is told.
func Holders(ports ...int) ([]Holder, error) {
	sockets, err := listening()
	if err != nil {
		return nil, err
	}
	if len(ports) > 0 {
		sockets = slices.DeleteFunc(sockets, func(s socket) bool { return !slices.Contains(ports, s.port) })
	}
	owners := ownersOf(sockets)
	var out []Holder
	for _, s := range sockets {
		pid := owners[s.inode]
		i := slices.IndexFunc(out, func(h Holder) bool {
			return h.Port == s.port && h.PID == pid && (pid != 0 || h.User == UserName(s.uid))
		})
		if i < 0 {
			h := Holder{Port: s.port, PID: pid, User: UserName(s.uid)}
			if pid != 0 {
				h.describe()
			}
			out, i = append(out, h), len(out)
		}
		if !slices.Contains(out[i].Addresses, s.address) {
			out[i].Addresses = append(out[i].Addresses, s.address)
		}
	}
	slices.SortStableFunc(out, func(a, b Holder) int { return cmp.Or(a.Port-b.Port, a.PID-b.PID) })
	return out, nil
}

// FindHolder finds who keeps a server from listening on a port; nil if nobody
// seems to, and a Holder without a pid if it can't be seen who.
func FindHolder(port int) *Holder {
	if Free(port) {
		return nil
	}
	holders, err := Holders(port)
	if err != nil || len(holders) == 0 {
		return &Holder{Port: port}
	}
	return &holders[0]
}

// UserName returns the name of a user, or "user 812" for one without; "" if uid
// is negative.
func UserName(uid int) string {
	if uid < 0 {
		return ""
	}
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return "user " + strconv.Itoa(uid)
}

// String describes the holder: "python3 -m http.server 8000, pid 812, started
// 2 h ago in ~/old-shop".
func (h Holder) String() string {
	if h.PID == 0 && h.User != "" {
		return "a process of " + h.User + ", of which no more can be seen from here"
	}
	if h.PID == 0 {
		return "a process that can't be seen (another user's)"
	}
	s := fmt.Sprintf("pid %d", h.PID)
	if program := cmp.Or(middle(h.line(), lineLimit), h.Command); program != "" {
		s = program + ", " + s
	}
	if me, err := user.Current(); err == nil && h.User != "" && h.User != me.Username {
		s += " of " + h.User
	}
	if !h.Started.IsZero() {
		s += ", started " + ago(time.Since(h.Started))
	}
	switch {
	case h.Unit != "":
		s += " as the system's " + h.Unit
	case h.Dir != "" && h.Dir != "/":
		s += " in " + shorten(h.Dir)
	}
	return s
}

// line returns the command line with the program's name in place of its path.
func (h Holder) line() string {
	if h.Line == "" {
		return ""
	}
	program, arguments, _ := strings.Cut(h.Line, " ")
	return strings.TrimSpace(filepath.Base(program) + " " + arguments)
}

// lineLimit is how much of a command line is told, in characters.
const lineLimit = 60

// middle leaves out the middle of a text that is too long: its beginning says
// what it is, and its end what it is about.
func middle(text string, limit int) string {
	r := []rune(text)
	if len(r) <= limit {
		return text
	}
	half := (limit - 3) / 2
	return string(r[:half]) + " … " + string(r[len(r)-half:])
}

// Family says by which versions of IP it listens, and whether for others than
// this machine: "IPv4 and IPv6, all interfaces".
func (h Holder) Family() string {
	four, six, all := false, false, false
	for _, a := range h.Addresses {
		four, six = four || a.Is4(), six || a.Is6()
		all = all || a.IsUnspecified()
	}
	text := "IPv4"
	switch {
	case four && six:
		text = "IPv4 and IPv6"
	case six:
		text = "IPv6"
	}
	if all {
		text += ", all interfaces"
	}
	return text
}

// ID tells the process from others that had its pid before.
func (h Holder) ID() (proc.ID, error) { return proc.Identify(h.PID) }

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
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(dir, home+"/") {
		return "~" + dir[len(home):]
	}
	return dir
}
