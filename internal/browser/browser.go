// Package browser opens addresses in the user's browser.
package browser

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// openers are the programs that open an address with what the user has chosen
// for it, by the system that has them.
var openers = []string{"xdg-open", "open", "wslview", "gio"}

// Open opens an address of a web page. It doesn't wait for the browser. BROWSER
// in the environment goes before what the system has. What can't be opened is
// an error that says how to.
func Open(address string) error {
	if !strings.HasPrefix(address, "http://") && !strings.HasPrefix(address, "https://") {
		return fmt.Errorf("%s is no address of a web page", address)
	}
	for _, name := range append(strings.Split(os.Getenv("BROWSER"), ":"), openers...) {
		// BROWSER may have arguments, and %s where the address is to stand.
		argv := strings.Fields(name)
		if len(argv) == 0 {
			continue
		}
		path, err := exec.LookPath(argv[0])
		if err != nil {
			continue
		}
		args := argv[1:]
		if name == "gio" {
			args = []string{"open"}
		}
		placed := false
		for i, a := range args {
			if strings.Contains(a, "%s") {
				args[i], placed = strings.ReplaceAll(a, "%s", address), true
			}
		}
		if !placed {
			args = append(args, address)
		}
		cmd := exec.Command(path, args...)
		if err := cmd.Start(); err != nil {
			return fmt.Errorf("%s can't be started: %w", path, err)
		}
		go func() { _ = cmd.Wait() }()
		return nil
	}
	return errors.New("no browser is found here; open it yourself: " + address + " (BROWSER names a program that opens addresses)")
}
