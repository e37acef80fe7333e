package kind

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
)

// Program is an installed program.
type Program struct {
	Path    string
	Version string // "15.18"; empty where the kind has none
	// Dir is the folder with the programs that belong to it.
	Dir string
}

// MissingError says that a program isn't installed.
type MissingError struct {
	Program  string // the program's name
	Many     bool   // the name is one of several things
	Looked   string // where it was looked for; may be empty
	Packages Packages
}

// What says what is missing, without what to do.
func (e *MissingError) What() string {
	text := e.Program + " is not installed"
	if e.Many {
		text = e.Program + " are not installed"
	}
	if e.Looked != "" {
		text += " (looked in " + e.Looked + ")"
	}
	return text
}

func (e *MissingError) Error() string {
	return e.What() + "; " + cmp.Or(e.Packages.InWords(), "install it, or correct the command")
}

// Candidates lists the executables of a name: those in the folders that match
// the patterns, the last match first, so that the newest version comes first,
// and then the one in PATH.
func Candidates(name string, patterns ...string) []string {
	var paths []string
	for _, pattern := range patterns {
		matches, _ := filepath.Glob(filepath.Join(pattern, name))
		slices.Reverse(matches)
		paths = append(paths, matches...)
	}
	if path, err := exec.LookPath(name); err == nil {
		if abs, err := filepath.Abs(path); err == nil {
			paths = append(paths, abs)
		}
	}
	return Executables(paths)
}

// InPath lists the programs of a name in a search path, whose relative
// folders are seen from dir.
func InPath(name, path, dir string) []string {
	var found []string
	for _, folder := range filepath.SplitList(path) {
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(dir, folder)
		}
		if p, err := exec.LookPath(filepath.Join(folder, name)); err == nil {
			found = append(found, p)
		}
	}
	return Executables(found)
}

// Executables leaves out what can't be executed, and what is the same file as
// one before.
func Executables(paths []string) []string {
	var found, resolved []string
	for _, path := range paths {
		// A program may go by the name it is called by, so that a link is
		// not replaced by what it leads to.
		real, err := filepath.EvalSymlinks(path)
		if err != nil || slices.Contains(resolved, real) {
			continue
		}
		if info, err := os.Stat(real); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			found, resolved = append(found, path), append(resolved, real)
		}
	}
	return found
}

// Choose picks the first program whose version meets the constraint and
// accept, if given. Its error names what is installed instead.
func Choose(what string, programs []Program, c declare.Constraint, packages string) (Program, error) {
	var have []string
	for _, p := range programs {
		if c.Allows(p.Version) {
			return p, nil
		}
		have = append(have, fmt.Sprintf("%s (%s)", p.Version, p.Path))
	}
	return Program{}, fmt.Errorf("no installed %s meets version = %q; installed: %s; install another (%s) or change the constraint",
		what, c.String(), strings.Join(have, ", "), packages)
}

// AbsentError says that a file or folder of the project's own is not there;
// a preparation may make it.
type AbsentError struct{ Err error }

func (e *AbsentError) Error() string { return e.Err.Error() }
func (e *AbsentError) Unwrap() error { return e.Err }

// MayBeMade reports whether what is missing is the project's own.
func MayBeMade(err error) bool {
	var absent *AbsentError
	return errors.As(err, &absent)
}
