//go:build !linux

package port

import (
	"errors"
	"net/netip"
	"os/exec"
	"strconv"
	"strings"
)

// peer asks lsof(8), which shows an ordinary user only the user's own sockets: one that it does not
// show is another user's.
func peer(local, remote netip.AddrPort) (uid int, is, known bool) {
	out, err := exec.Command("lsof", "-nP", "-iTCP@"+remote.String(), "-F", "un").Output()
	if exit := (*exec.ExitError)(nil); err != nil && !errors.As(err, &exit) { // which it has when there is none
		return 0, false, false
	}
	for line := range strings.Lines(string(out)) {
		switch line = strings.TrimSpace(line); {
		case strings.HasPrefix(line, "u"):
			uid, _ = strconv.Atoi(line[1:])
		case line == "n"+remote.String()+"->"+local.String():
			return uid, true, true
		}
	}
	return 0, false, true
}
