// Package tree removes folders whatever their modes are.
package tree

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Remove removes path and all below it, as os.RemoveAll does, and also what
// lies in folders that their owner may not write to: an ordinary user can't
// remove a file from one of mode 0555. Links are removed, never followed.
func Remove(path string) error {
	if os.RemoveAll(path) == nil {
		return nil
	}
	_ = filepath.WalkDir(path, func(path string, e fs.DirEntry, err error) error {
		if e != nil && e.IsDir() {
			_ = os.Chmod(path, 0o700)
		}
		return nil
	})
	return os.RemoveAll(path)
}
