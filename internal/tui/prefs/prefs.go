// Package prefs remembers how a user wants the screen.
package prefs

import (
	"encoding/json"
	"os"
	"path/filepath"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/project"
)

// Prefs is how a user wants the screen.
type Prefs struct {
	// MapBorder is how many rows more than by itself the map has.
	MapBorder int `json:"map_border"`
}

func path() string {
	dir := project.UserDir()
	if dir == "" {
		return ""
	}
	return filepath.Join(dir, "screen.json")
}

// Load returns what is remembered. What can't be read is as if there were
// nothing.
func Load() Prefs {
	var p Prefs
	if b, err := os.ReadFile(path()); err == nil {
		_ = json.Unmarshal(b, &p)
	}
	return p
}

// Save remembers it. A user without a home has it for now only.
func Save(p Prefs) error {
	if path() == "" {
		return nil
	}
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path()), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(path(), b, 0o600)
}
