package proc

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"syscall"
)

// lockFD is the number under which a process inherits its lock: above what
// shells take for themselves and people for their scripts.
const lockFD = 59

// HeldError says that what a lock is for belongs to processes that run.
type HeldError struct {
	Path string
	By   []ID
}

func (e *HeldError) Error() string {
	var by []string
	for _, id := range e.By {
		by = append(by, fmt.Sprintf("%s (pid %d)", NameOf(id.PID), id.PID))
	}
	if len(by) == 0 {
		by = []string{"a process that can't be seen"}
	}
	return "it runs already: " + strings.Join(by, ", ")
}

// TakeLock locks the file at path for a process that is about to begin (flock(2)), and
// writes a note into it for whoever finds it held. The lock lasts as long as the process,
// or another that inherited it, runs: whatever was killed between, no other is taken for
// gone. It fails with a *HeldError if such a process runs.
func TakeLock(path string, note any) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = &HeldError{path, identifyAll(Opened(path))}
		}
		return nil, err
	}
	if err := WriteNote(f, note); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// WriteNote writes another note into a lock.
func WriteNote(lock *os.File, note any) error {
	b, err := json.Marshal(note)
	if err != nil {
		return err
	}
	if err := lock.Truncate(0); err != nil {
		return err
	}
	_, err = lock.WriteAt(b, 0)
	return err
}

// Locked reports whether a process that runs holds the lock at path.
func Locked(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB)
	return errors.Is(err, syscall.EWOULDBLOCK)
}

// Holders returns the processes that hold the lock at path, and which of them it may have
// been taken for: the only one with a group of its own that none of the others started.
// Its ID is zero if there is none, or more than one.
func Holders(path string) (main ID, all []ID) {
	if !Locked(path) {
		return ID{}, nil
	}
	all = identifyAll(Opened(path))
	t, err := ReadTable()
	if err != nil {
		return ID{}, all
	}
	for _, id := range all {
		e := t[id.PID]
		if e == nil || e.Group != id.PID || slices.ContainsFunc(all, func(o ID) bool { return o.PID == e.Parent }) {
			continue
		}
		if main.PID != 0 {
			return ID{}, all
		}
		main = id
	}
	return main, all
}

// ReadNote reads the note in a lock.
func ReadNote(path string, note any) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, note)
}

func identifyAll(pids []int) []ID {
	var all []ID
	for _, pid := range pids {
		if id, err := Identify(pid); err == nil {
			all = append(all, id)
		}
	}
	return all
}
