package display

import (
	"os"
	"path/filepath"
)

// Homely writes a folder as the user's shell does, with ~ for his home.
func Homely(dir string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rel, err := filepath.Rel(home, dir); err == nil && filepath.IsLocal(rel) && rel != "." {
			return "~/" + Plain(rel)
		}
	}
	return Plain(dir)
}
