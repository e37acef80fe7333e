//go:build linux

package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// firstFrame runs the demo on a terminal of its own and returns how long it
// took until every card and the keys were drawn.
func firstFrame() (time.Duration, error) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return 0, err
	}
	defer master.Close()
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		return 0, err
	}
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		return 0, err
	}
	if err := unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 38, Col: 142}); err != nil {
		return 0, err
	}
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(*binary, "demo")
	cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	began := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	slave.Close()
	defer func() {
		_, _ = master.WriteString("q")
		_ = cmd.Wait()
	}()
	var seen bytes.Buffer
	buffer := make([]byte, 32<<10)
	for time.Since(began) < 10*time.Second {
		n, err := master.Read(buffer)
		if err != nil {
			return 0, err
		}
		seen.Write(buffer[:n])
		if complete(seen.String()) {
			took := time.Since(began)
			go func() { // so that it never blocks on its way out
				for {
					if _, err := master.Read(buffer); err != nil {
						return
					}
				}
			}()
			return took, nil
		}
	}
	return 0, errors.New("the first frame never came")
}

func complete(screen string) bool {
	for _, part := range []string{"ledger", "shelf", "postbox", "stocktake", "api", "web", "reminders", "leave"} {
		if !strings.Contains(screen, part) {
			return false
		}
	}
	return true
}
