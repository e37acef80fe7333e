// Package atomicfile writes files that must never be seen half written, and
// changes files that several processes share.
package atomicfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"neighbour/internal/core/machine/input"
)

// Write writes a file so that it is there whole or not at all, also after a
// power failure: the contents are on the disk before the name is, and the name
// is before Write returns. Errors name the path.
func Write(path string, data []byte, mode fs.FileMode) error {
	if err := write(path, data, mode, true); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// Replace is Write for a file that nobody needs after a power failure: other
// processes see it whole or not at all, and the disk is not waited for.
func Replace(path string, data []byte, mode fs.FileMode) error {
	return write(path, data, mode, false)
}

func write(path string, data []byte, mode fs.FileMode, sync bool) error {
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil && sync {
		err = f.Sync()
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// Swap is Write if the file holds was, nil for none; otherwise it leaves the file
// as it is and returns false. What another program saves at the same time is
// never lost, however it saves, where the file system can exchange two files
// (renameat2(2)).
func Swap(path string, data, was []byte, mode fs.FileMode) (bool, error) {
	changed := func() bool {
		now, err := os.ReadFile(path)
		return err == nil && (was == nil || !bytes.Equal(now, was)) || err != nil && was != nil
	}
	if changed() {
		return false, nil
	}
	if was == nil {
		return true, Write(path, data, mode)
	}
	fresh := fmt.Sprintf("%s.%d.swap", path, os.Getpid())
	if err := Write(fresh, data, mode); err != nil {
		return false, err
	}
	defer os.Remove(fresh)
	// Writing has taken a while. An exchange that must be undone is seen by those
	// who read in between, so there should be as few as can be.
	if changed() {
		return false, nil
	}
	if err := exchange(fresh, path); err != nil {
		return true, os.Rename(fresh, path)
	}
	// What was there is at the other name now.
	if now, err := os.ReadFile(fresh); err != nil || !bytes.Equal(now, was) {
		return false, exchange(fresh, path)
	}
	return true, SyncDir(filepath.Dir(path))
}

// SyncDir makes a folder's entries last. Some file systems can't sync a
// folder, and need not.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, syscall.ENOTSUP) {
		return fmt.Errorf("writing %s: %w", dir, err)
	}
	return nil
}

// ReadJSON reads a file into v; a file that isn't there leaves v alone.
func ReadJSON(path string, v any) error {
	b, err := input.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return fmt.Errorf("%s can't be read: %w; move it away if it is broken", path, err)
	}
	return nil
}

// UpdateMap changes a JSON object that several processes share, and returns it
// as it is then. Change gets what is in the file now, never nil, and reports
// whether it has changed it; nobody else changes the file meanwhile. The
// folder is made if it isn't there.
func UpdateMap[V any](path string, change func(map[string]V) (changed bool, err error)) (map[string]V, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	unlock, err := Lock(path + ".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	all := map[string]V{}
	if err := ReadJSON(path, &all); err != nil {
		return nil, err
	}
	if all == nil { // the file says null
		all = map[string]V{}
	}
	changed, err := change(all)
	if err != nil || !changed {
		return all, err
	}
	b, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return nil, err
	}
	return all, Write(path, append(b, '\n'), 0o600)
}

// Lock waits for a lock between processes (flock(2)) and returns what gives it
// back. Path is a file for this alone, made if it isn't there: one with contents
// is replaced by each change, and its lock with it. A file system without locks
// is used without.
func Lock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	for {
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
		if err != syscall.EINTR {
			break
		}
	}
	if err != nil && !errors.Is(err, syscall.ENOLCK) && !errors.Is(err, syscall.ENOTSUP) && !errors.Is(err, syscall.ENOSYS) {
		f.Close()
		return nil, fmt.Errorf("locking %s: %w", path, err)
	}
	return func() { f.Close() }, nil
}
