package program

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"neighbour/internal/core/declare"
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
	var paths []string
	for _, p := range r.programs {
		paths = append(paths, inPath(in, p)...)
	}
	if len(paths) == 0 {
		return &kind.MissingError{Program: r.programs[0], Looked: "PATH: " + searchPath(in), Packages: packages[r.programs[0]]}
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
	if others, err := kind.Versions(paths[1:], ask, expression); err == nil {
		var names []string
		for _, o := range others {
			names = append(names, fmt.Sprintf("%s is %s", o.Path, o.Version))
		}
		text += "; later in PATH: " + strings.Join(names, ", ")
	}
	return errors.New(text + "; put another one first in PATH, or change the constraint")
}
