package kind

import (
	"fmt"
	"strings"
	"unicode"
)

// CheckPaths refuses paths that can't stand in a server's configuration however they are
// quoted: those with a control character, such as a line break, and those with one of the
// texts in not.
func CheckPaths(server string, not []string, paths ...string) error {
	for _, path := range paths {
		odd := ""
		if strings.ContainsFunc(path, unicode.IsControl) {
			odd = "a control character, such as a line break"
		}
		for _, n := range not {
			if strings.Contains(path, n) {
				odd = n
			}
		}
		if odd != "" {
			return fmt.Errorf("the path %q has %s in it, which the configuration of %s can't hold; rename that folder", path, odd, server)
		}
	}
	return nil
}
