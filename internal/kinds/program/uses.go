package program

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// runtime is how to ask something that programs run on for its version.
type runtime struct {
	programs []string // its names; one that is empty is the runtime's own
	ask      string
	version  string // the expression that finds it
}

// runtimes are those that aren't asked "NAME --version", or whose answer has
// other numbers in it, too.
var runtimes = map[string]runtime{
	"go":     {ask: "version", version: `go(\d+\.\d+(?:\.\d+)?)`},
	"java":   {ask: "-version", version: `version "(\d+(?:\.\d+)*)`},
	"python": {programs: []string{"python3", "python"}},
	"elixir": {version: `Elixir (\d+\.\d+\.\d+)`},
	"erlang": {programs: []string{"erl"}, ask: "+V", version: `version (\d+(?:\.\d+)*)`},
	"rust":   {programs: []string{"rustc"}},
	"perl":   {version: `v(\d+\.\d+\.\d+)`},
}

const anyVersion = `(\d+\.\d+(?:\.\d+)?)`

// usual are the runtimes that nobody is surprised to see asked for a version.
var usual = []string{"go", "java", "python", "elixir", "erlang", "rust", "perl", "node", "npm", "php", "ruby"}

// usersOwn reports whether a program is in the PATH that the user has, and not
// in the project.
func usersOwn(in *kind.Instance, path string) bool {
	dir := filepath.Dir(path)
	if !slices.Contains(filepath.SplitList(os.Getenv("PATH")), dir) {
		return false
	}
	real, err := filepath.EvalSymlinks(path)
	root, err2 := filepath.EvalSymlinks(in.Root)
	if err != nil || err2 != nil || !filepath.IsAbs(dir) {
		return false
	}
	rel, err := filepath.Rel(root, real)
	return err != nil || !filepath.IsLocal(rel)
}

// kept are the shapes of the folders, from the user's home, where tools that
// keep several versions of a runtime side by side put their programs.
var kept = []string{".*/versions/*/bin", ".*/versions/*/*/bin", ".*/*/versions/*/bin", ".*/candidates/*/*/bin", ".local/share/*/installs/*/*/bin", ".local/share/*/versions/*/bin", ".local/share/*/*-versions/*/*/bin"}

// keptByAll are those of the machine.
var keptByAll = []string{"/opt/*/bin", "/opt/*/*/bin", "/usr/local/*/bin", "/usr/lib/jvm/*/bin"}

// elsewhere returns the other versions on this machine: later in PATH, and where
// they are kept side by side.
func elsewhere(programs, inPath []string) []string {
	paths, patterns := inPath, keptByAll
	if home, err := os.UserHomeDir(); err == nil {
		for _, pattern := range kept {
			patterns = append(patterns[:len(patterns):len(patterns)], filepath.Join(home, pattern))
		}
	}
	for _, pattern := range patterns {
		for _, p := range programs {
			paths = append(paths, recent.find(filepath.Join(pattern, p))...)
		}
	}
	return kind.Executables(paths)
}

// checkUses makes sure that the runtimes which the service uses are in its
// PATH, in versions that will do.
func checkUses(in *kind.Instance) error {
	var errs []error
	uses := in.Service.Settings.(*Settings).Uses
	for _, name := range slices.Sorted(maps.Keys(uses)) {
		errs = append(errs, checkUse(in, name, uses[name]))
	}
	return errors.Join(errs...)
}

func checkUse(in *kind.Instance, name string, c declare.Constraint) error {
	r := runtimes[name]
	if len(r.programs) == 0 {
		r.programs = []string{name}
	}
	paths := named(in, r.programs)
	where := "its command"
	if len(paths) == 0 {
		where = "PATH"
	}
	for _, p := range r.programs {
		paths = append(paths, inPath(in, p)...)
	}
	if len(paths) == 0 {
		return &kind.MissingError{Program: r.programs[0], Looked: whichPath(in), Packages: kind.PackagesOf(r.programs[0])}
	}
	// What a project that was never started names isn't executed, but for the
	// usual runtimes that the user has.
	if in.Untrusted {
		if !slices.Contains(usual, name) || !usersOwn(in, paths[0]) {
			return nil
		}
		paths = slices.DeleteFunc(paths, func(p string) bool { return !usersOwn(in, p) })
	}
	expression := regexp.MustCompile(cmp.Or(r.version, anyVersion))
	ask := []string{cmp.Or(r.ask, "--version")}
	// What is first in PATH is what runs, whatever else is there.
	first, err := kind.Versions(paths[:1], ask, expression)
	if err != nil {
		return fmt.Errorf("uses %s: %w", name, err)
	}
	if c.Allows(first[0].Version) {
		return nil
	}
	text := fmt.Sprintf("uses %s = %q, and %s is %s", name, c, paths[0], first[0].Version)
	if others, err := kind.Versions(elsewhere(r.programs, paths[1:]), ask, expression); err == nil && len(others) > 0 {
		var names []string
		for _, o := range others {
			names = append(names, fmt.Sprintf("%s (%s)", o.Version, o.Path))
		}
		text += "; also installed: " + strings.Join(names, ", ")
	}
	lacking := kind.Packages{}
	if s, known := sideBySide[name]; known {
		lacking = s.For(c.Allows)
	}
	if where != "PATH" {
		return errors.New(text + "; name one that will do in run, or change the constraint")
	}
	return &kind.VersionError{Err: errors.New(text + "; install one that will do, or change the constraint"), Packages: lacking}
}

// named returns the runtime that the service's own command names by its path, such
// as .venv/bin/python; none if it names none.
func named(in *kind.Instance, programs []string) []string {
	args, err := argv(in)
	if err != nil {
		return nil
	}
	for _, word := range args {
		if !strings.Contains(word, "/") || !slices.ContainsFunc(programs, func(p string) bool { return isProgram(filepath.Base(word), p) }) {
			continue
		}
		if !filepath.IsAbs(word) {
			word = filepath.Join(folder(in), word)
		}
		return kind.Executables([]string{word})
	}
	return nil
}

// isProgram reports whether a name is a program's, perhaps with a version:
// python3.11.
func isProgram(name, program string) bool {
	rest, ok := strings.CutPrefix(name, program)
	return ok && strings.Trim(rest, "0123456789.-") == ""
}

// sideBySide are the packages of runtimes whose versions stand beside each other.
var sideBySide = map[string]kind.Series{
	"php":    {Pattern: "php%s-cli", Versions: []string{"8.6", "8.5", "8.4", "8.3", "8.2", "8.1", "8.0", "7.4"}},
	"python": {Pattern: "python%s", Versions: []string{"3.15", "3.14", "3.13", "3.12", "3.11", "3.10", "3.9"}},
	"java":   {Pattern: "openjdk-%s-jre-headless", Versions: []string{"25", "21", "17", "11", "8"}},
}
