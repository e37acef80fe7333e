//go:build linux

package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// terminal is the program on a terminal of its own.
type terminal struct {
	master *os.File
	cmd    *exec.Cmd

	mu    sync.Mutex
	drawn []byte
	seen  func([]byte) // gets everything that is drawn, as it is
	ended chan struct{}
}

// openTerminal runs the program on a terminal of 142 columns and 38 rows.
func openTerminal(args ...string) (*terminal, error) {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return nil, err
	}
	fd := int(master.Fd())
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 38, Col: 142})
	}
	var slave *os.File
	if err == nil {
		slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	}
	if err != nil {
		master.Close()
		return nil, err
	}
	defer slave.Close()
	t := &terminal{master: master, cmd: exec.Command(*binary, args...), ended: make(chan struct{})}
	t.cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor", "NEIGHBOUR_BACKGROUND=dark")
	t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = slave, slave, slave
	t.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := t.cmd.Start(); err != nil {
		master.Close()
		return nil, err
	}
	go func() {
		defer close(t.ended)
		buffer := make([]byte, 64<<10)
		for {
			n, err := master.Read(buffer)
			if err != nil {
				return
			}
			t.mu.Lock()
			t.drawn = append(t.drawn, buffer[:n]...)
			if t.seen != nil {
				t.seen(buffer[:n])
			}
			t.mu.Unlock()
		}
	}()
	return t, nil
}

// close leaves the program.
func (t *terminal) close() {
	_, _ = t.master.WriteString("q")
	done := make(chan struct{})
	go func() { _ = t.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		_ = t.cmd.Process.Kill()
		<-done
	}
	t.master.Close()
	<-t.ended
}

// press sends keys; what was drawn before doesn't count any more.
func (t *terminal) press(keys string) {
	t.mu.Lock()
	t.drawn = t.drawn[:0]
	t.mu.Unlock()
	_, _ = t.master.WriteString(keys)
}

// await returns how long it takes until all the texts have been drawn.
func (t *terminal) await(texts ...string) (time.Duration, error) {
	began := time.Now()
	for time.Since(began) < 20*time.Second {
		t.mu.Lock()
		drawn := string(t.drawn)
		t.mu.Unlock()
		missing := false
		for _, text := range texts {
			missing = missing || !strings.Contains(drawn, text)
		}
		if !missing {
			return time.Since(began), nil
		}
		time.Sleep(200 * time.Microsecond)
	}
	return 0, errors.New("never drawn: " + strings.Join(texts, ", "))
}

// firstFrame runs the demo and returns how long it took until every card and
// the keys were drawn.
func firstFrame() (time.Duration, error) {
	t, err := openTerminal("demo")
	if err != nil {
		return 0, err
	}
	defer t.close()
	return t.await("ledger", "shelf", "postbox", "stocktake", "api", "web", "reminders", "leave")
}
