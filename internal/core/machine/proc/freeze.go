package proc

import (
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"syscall"
	"time"
)

// freezeLimit is how long processes may take to stand still: one that waits for a disk can't be
// halted before it has an answer.
const freezeLimit = 10 * time.Second

// Freeze has processes stand still until thaw is called, or this process ends, however it does.
// List is asked again until there are no more, since each may start others until it is halted.
// Pids are those that stand still.
func Freeze(list func() ([]ID, error)) (pids []int, thaw func(), err error) {
	// It has the pids before they are halted, and wakes them when nobody writes to it any more.
	wakes := exec.Command("/bin/sh", "-c", `while read -r pid; do all="$all $pid"; done; [ -z "$all" ] || kill -CONT $all`)
	Detach(wakes)
	in, err := wakes.StdinPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := wakes.Start(); err != nil {
		return nil, nil, err
	}
	all := map[ID]bool{}
	release := WaitedFor(wakes.Process.Pid)
	thaw = func() {
		defer release()
		for id := range all {
			_ = send(id, syscall.SIGCONT)
		}
		_ = in.Close()
		_ = wakes.Wait()
	}
	if err := freeze(list, in, all); err != nil {
		thaw()
		return nil, nil, err
	}
	for id := range all {
		pids = append(pids, id.PID)
	}
	return pids, thaw, nil
}

func freeze(list func() ([]ID, error), waker io.Writer, all map[ID]bool) error {
	deadline := time.Now().Add(freezeLimit)
	for {
		ids, err := list()
		if err != nil {
			return err
		}
		more := false
		for _, id := range ids {
			if all[id] {
				continue
			}
			more = true
			if _, err := io.WriteString(waker, strconv.Itoa(id.PID)+"\n"); err != nil {
				return err
			}
			all[id] = true
			if err := send(id, syscall.SIGSTOP); err != nil && !errors.Is(err, syscall.ESRCH) && id.Alive() {
				return fmt.Errorf("pid %d can't be halted: %w", id.PID, err)
			}
		}
		if !more {
			return nil
		}
		for _, id := range ids {
			for !standsStill(id) {
				if time.Now().After(deadline) {
					return fmt.Errorf("pid %d does not stand still within %s", id.PID, freezeLimit)
				}
				time.Sleep(200 * time.Microsecond)
			}
		}
	}
}
