// Package demo is the Toolshed: the demo project, a street's tool-lending
// library, and the small programs that it runs.
package demo

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/tree"
)

// Command is the hidden command that runs one of the demo's programs.
const Command = "toolshed"

var (
	//go:embed toolshed.toml
	quiet string
	//go:embed trouble.toml
	troubled string
	//go:embed trouble.env
	env string
)

// usualHeld is the port that a stranger holds in the trouble demo, if it is
// free.
const usualHeld = 4177

// HeldPort returns the port that a stranger holds in the trouble demo: it is
// chosen when the demo is first written, and written beside it.
func HeldPort(dir string) (int, error) {
	path := filepath.Join(StrangerDir(dir), heldFile)
	if b, err := os.ReadFile(path); err == nil {
		if n, err := strconv.Atoi(string(b)); err == nil {
			return n, nil
		}
	}
	n, err := port.Pick(usualHeld, func(int) bool { return false })
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return 0, err
	}
	return n, os.WriteFile(path, []byte(strconv.Itoa(n)), 0o644)
}

// heldFile is where the port stands, in the stranger's folder.
const heldFile = "port"

// StrangerDir returns the folder of the stranger in the trouble demo in dir.
func StrangerDir(dir string) string { return filepath.Join(filepath.Dir(dir), "old-shed") }

// Dir returns the folder of the demo.
func Dir(trouble bool) string {
	name := fmt.Sprintf("neighbour-demo-%d", os.Getuid())
	if trouble {
		name += "-trouble"
	}
	return filepath.Join(os.TempDir(), name, "toolshed")
}

// Write puts the demo's declaration and folders in place, for programs that
// self, the path of this program, runs. What is there already stays.
func Write(trouble bool, self string) (dir string, err error) {
	dir = Dir(trouble)
	base := filepath.Dir(dir)
	if err := os.Mkdir(base, 0o700); err != nil && !os.IsExist(err) {
		return "", err
	}
	// The folder's name is known to everybody on the machine.
	info, err := os.Lstat(base)
	if err != nil {
		return "", err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || int(st.Uid) != os.Getuid() {
		return "", fmt.Errorf("%s belongs to somebody else; set TMPDIR to another folder", base)
	}
	for _, name := range []string{"bin", "data", "photos"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return "", err
		}
	}
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return "", err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return "", err
		}
	}
	for tool, shapes := range photos {
		path := filepath.Join(dir, "photos", photoFile(tool))
		if _, err := os.Stat(path); err == nil {
			continue
		}
		b, err := photo(shapes)
		if err != nil {
			return "", err
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return "", err
		}
	}
	for name := range programs {
		script := fmt.Sprintf("#!/bin/sh\nexec '%s' %s %s\n", strings.ReplaceAll(self, "'", `'\''`), Command, name)
		if err := os.WriteFile(filepath.Join(dir, "bin", name), []byte(script), 0o755); err != nil {
			return "", err
		}
	}
	text := quiet
	if trouble {
		text += "\n" + troubled
		// The program that writes here runs as nobody if this is root.
		for _, d := range []string{base, dir} {
			if err := os.Chmod(d, 0o711); err != nil {
				return "", err
			}
		}
		if err := os.Chmod(filepath.Join(dir, "photos"), 0o555); err != nil {
			return "", err
		}
	}
	if trouble {
		if err := os.WriteFile(filepath.Join(dir, ".env"), []byte(env), 0o644); err != nil {
			return "", err
		}
	}
	if trouble {
		held, err := HeldPort(dir)
		if err != nil {
			return "", err
		}
		text = strings.ReplaceAll(text, "@HELD@", strconv.Itoa(held))
	}
	return dir, os.WriteFile(filepath.Join(dir, declare.FileName), []byte(text), 0o644)
}

// Remove removes the demo's folder with all that is in it.
func Remove(trouble bool) error { return tree.Remove(filepath.Dir(Dir(trouble))) }
