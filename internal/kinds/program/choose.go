package program

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/input"
	"neighbour/internal/core/machine/lazyregexp"
)

// asked is a version that something asks for.
type asked struct {
	runtime string
	declare.Constraint
	by string // "uses", or the file: "package.json"
}

// Runtimes chooses what a service runs on: of all installed versions, the newest
// that meets what its uses say, or where they say nothing the project's own
// files. What is asked for and can't be had is left out; checks tell of it.
func (Kind) Runtimes(in *kind.Instance) []kind.Runtime {
	var out []kind.Runtime
	for _, want := range wanted(in) {
		if in.Untrusted && !slices.Contains(usual, want.runtime) {
			continue // what a project that was never started names isn't executed
		}
		if r, err := choose(in, want); err == nil && r.Path != "" {
			out = append(out, r)
		}
	}
	return out
}

// wanted returns what the service asks for, sorted by the runtimes' names.
func wanted(in *kind.Instance) []asked {
	all := map[string]asked{}
	for _, a := range askedByFiles(in.Root, folder(in)) {
		all[a.runtime] = a
	}
	for name, c := range in.Service.Settings.(*Settings).Uses {
		all[name] = asked{name, c, "uses"}
	}
	var out []asked
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out
}

// choose finds the newest installed version. Its error names what is installed.
func choose(in *kind.Instance, want asked) (kind.Runtime, error) {
	r := runtimes[want.runtime]
	if len(r.programs) == 0 {
		r.programs = []string{want.runtime}
	}
	programs := installed(in, r)
	var have []string
	for _, p := range programs {
		if want.Allows(p.Version) {
			return kind.Runtime{Name: want.runtime, Program: r.programs[0], Version: p.Version, Path: p.Path, For: want.by}, nil
		}
		have = append(have, fmt.Sprintf("%s (%s)", p.Version, p.Path))
	}
	if len(have) == 0 {
		return kind.Runtime{}, &kind.MissingError{Program: r.programs[0], Looked: "PATH, and where versions are kept side by side", Packages: kind.PackagesOf(r.programs[0])}
	}
	return kind.Runtime{}, fmt.Errorf("%s asks for %s %s, and installed are only %s", want.by, want.runtime, want.Constraint, strings.Join(have, ", "))
}

// installed returns the versions of a runtime on this machine, the newest first;
// of those that are alike, the one that is first in PATH.
func installed(in *kind.Instance, r runtime) []kind.Program {
	var paths []string
	search := searchPath(in)
	if in.Untrusted {
		search = os.Getenv("PATH")
	}
	for _, p := range r.programs {
		paths = append(paths, kind.InPath(p, search, folder(in))...)
	}
	for _, p := range r.programs { // Debian's names: php8.2, python3.11
		for _, dir := range filepath.SplitList(search) {
			if !filepath.IsAbs(dir) {
				continue
			}
			for _, m := range recent.find(filepath.Join(dir, p+"[0-9.]*")) {
				if isProgram(filepath.Base(m), p) {
					paths = append(paths, m)
				}
			}
		}
	}
	paths = elsewhere(r.programs, paths)
	// What the project itself has is not executed for its version; a command
	// that wants it names it.
	paths = slices.DeleteFunc(paths, func(p string) bool { return inside(in.Root, p) })
	found, _ := kind.Versions(paths, []string{cmp.Or(r.ask, "--version")}, regexp.MustCompile(cmp.Or(r.version, anyVersion)))
	return found
}

func inside(root, path string) bool {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return true
	}
	rel, err := filepath.Rel(root, real)
	return err == nil && filepath.IsLocal(rel)
}

// Contradictions says where the declared uses and the project's files ask for
// versions that no single one meets, as far as the installed ones tell.
func (Kind) Contradictions(in *kind.Instance) []string {
	uses := in.Service.Settings.(*Settings).Uses
	var out []string
	for _, a := range askedByFiles(in.Root, folder(in)) {
		c, both := uses[a.runtime]
		if !both {
			continue
		}
		r, err := choose(in, asked{a.runtime, c, "uses"})
		if err == nil && !a.Allows(r.Version) {
			out = append(out, fmt.Sprintf("uses asks for %s %s, so that it runs on %s, and %s asks for %s", a.runtime, c, r.Version, a.by, a.Constraint))
		}
	}
	return out
}

// Unmet says which versions the project's files ask for that are not installed.
func (Kind) Unmet(in *kind.Instance) []string {
	uses := in.Service.Settings.(*Settings).Uses
	var out []string
	for _, a := range askedByFiles(in.Root, folder(in)) {
		if _, declared := uses[a.runtime]; declared {
			continue
		}
		var missing *kind.MissingError
		if _, err := choose(in, a); err != nil && !errors.As(err, &missing) {
			out = append(out, err.Error())
		} else if err != nil {
			// What would be installed is no better than none.
			name, _, _ := strings.Cut(missing.Packages.Debian, " ")
			if v := kind.Offered(name); name != "" && v != "" && !a.Allows(v) {
				out = append(out, fmt.Sprintf("%s asks for %s %s, and the package %s of this system has %s", a.by, a.runtime, a.Constraint, name, v))
			}
		}
	}
	if _, declared := uses["node"]; !declared {
		out = append(out, unmetByPackages(in)...)
	}
	return out
}

// unmetByPackages says which packages of the project's lock file ask for another node than the one
// that runs them: npm only warns of that (EBADENGINE), and they fail later.
func unmetByPackages(in *kind.Instance) []string {
	var lock struct {
		Packages map[string]struct {
			Version  string
			Engines  json.RawMessage
			Optional bool
		}
	}
	for dir := folder(in); ; dir = filepath.Dir(dir) {
		if b, err := input.ReadUpTo(filepath.Join(dir, "package-lock.json"), 20<<20); err == nil && json.Unmarshal(b, &lock) == nil {
			break
		}
		if rel, err := filepath.Rel(in.Root, filepath.Dir(dir)); dir == in.Root || err != nil || !filepath.IsLocal(rel) {
			return nil
		}
	}
	runs, is := "", "node is "
	if programs := installed(in, runtime{programs: []string{"node"}}); len(programs) > 0 {
		runs = programs[0].Version
		for _, r := range (Kind{}).Runtimes(in) {
			if r.Name == "node" {
				runs = r.Version
			}
		}
	} else if runs = kind.Offered(kind.PackagesOf("node").Debian); runs != "" {
		is = "the package nodejs of this system has "
	}
	if runs == "" {
		return nil
	}
	var out []string
	for _, path := range slices.Sorted(maps.Keys(lock.Packages)) {
		p := lock.Packages[path]
		var e struct{ Node string }
		var c declare.Constraint
		if path == "" || p.Optional || json.Unmarshal(p.Engines, &e) != nil || e.Node == "" || c.UnmarshalText([]byte(e.Node)) != nil || c.Allows(runs) {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		out = append(out, fmt.Sprintf("%s %s asks for node %s, and %s%s", name, p.Version, e.Node, is, runs))
	}
	if len(out) > 1 {
		return []string{fmt.Sprintf("%s; so do %d more of its packages", out[0], len(out)-1)}
	}
	return out
}

// askers are the files that ask for versions, from a service's folder up to the
// project's. The first that says something of a runtime counts.
var askers = []struct {
	file, runtime string
	read          func(text string) string
}{
	{".node-version", "node", plainVersion},
	{"package.json", "node", engines},
	{".python-version", "python", plainVersion},
	{"pyproject.toml", "python", requiresPython},
	{".ruby-version", "ruby", plainVersion},
	{"Gemfile", "ruby", first(`(?m)^\s*ruby\s+["']([^"']+)["']`)},
	{"go.mod", "go", goVersion},
	{"composer.json", "php", requirePHP},
}

func askedByFiles(root, dir string) []asked {
	var out []asked
	for {
		for _, a := range askers {
			if slices.ContainsFunc(out, func(o asked) bool { return o.runtime == a.runtime }) {
				continue
			}
			path := filepath.Join(dir, a.file)
			b, err := input.Read(path)
			if err != nil {
				continue
			}
			text := a.read(string(b))
			var c declare.Constraint
			if text == "" || c.UnmarshalText([]byte(text)) != nil {
				continue // it may ask in a way of its own, such as by a name
			}
			if rel, err := filepath.Rel(root, path); err == nil {
				path = rel
			}
			out = append(out, asked{a.runtime, c, path})
		}
		parent := filepath.Dir(dir)
		if rel, err := filepath.Rel(root, parent); dir == root || parent == dir || err != nil || !filepath.IsLocal(rel) {
			return out
		}
		dir = parent
	}
}

// first returns a reader that takes what the expression's first group finds.
func first(expression string) func(string) string {
	re := regexp.MustCompile(expression)
	return func(text string) string {
		if m := re.FindStringSubmatch(text); m != nil {
			return gems(m[1])
		}
		return ""
	}
}

// gems turns the "~> 3.2" of Ruby, which allows more of the last number that is
// written, into a constraint.
func gems(text string) string {
	rest, pessimistic := strings.CutPrefix(text, "~>")
	if !pessimistic {
		return text
	}
	rest = strings.TrimSpace(rest)
	if strings.Count(rest, ".") < 2 {
		return "^" + rest
	}
	return "~" + rest
}

var version = lazyregexp.New(`^(?:v|[a-z]+-)?(\d+(?:\.\d+){0,2})$`)

// plainVersion reads a file that holds a version alone: "v20.11.1", "3.12".
func plainVersion(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	if m := version.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
		return m[1]
	}
	return ""
}

func engines(text string) string {
	var p struct {
		Engines struct{ Node string }
	}
	_ = json.Unmarshal([]byte(text), &p)
	return p.Engines.Node
}

// requiresPython reads the version specifiers of Python (PEP 440), as far as they
// have a like among constraints.
func requiresPython(text string) string {
	var p struct {
		Project struct {
			Requires string `toml:"requires-python"`
		}
	}
	_ = toml.Unmarshal([]byte(text), &p)
	var parts []string
	for _, part := range strings.Split(p.Project.Requires, ",") {
		part = strings.TrimSpace(part)
		switch {
		case strings.HasPrefix(part, "~="):
			part = gems("~>" + part[2:])
		case strings.HasPrefix(part, "==="):
			part = "=" + part[3:]
		case strings.HasPrefix(part, "=="):
			part = strings.TrimSuffix(part[2:], ".*")
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}

var (
	goLine      = lazyregexp.New(`(?m)^go\s+(\d+\.\d+(?:\.\d+)?)`)
	toolchainIs = lazyregexp.New(`(?m)^toolchain\s+go(\d+\.\d+(?:\.\d+)?)`)
)

// goVersion reads the least version that a module asks for ("Go Toolchains").
func goVersion(text string) string {
	for _, re := range []*lazyregexp.Regexp{toolchainIs, goLine} {
		if m := re.FindStringSubmatch(text); m != nil {
			return ">=" + m[1]
		}
	}
	return ""
}

func requirePHP(text string) string {
	var p struct {
		Require struct{ PHP string }
	}
	_ = json.Unmarshal([]byte(text), &p)
	// A single | is an or there, too.
	return strings.ReplaceAll(regexp.MustCompile(`\s*\|\|?\s*`).ReplaceAllString(p.Require.PHP, "|"), "|", " || ")
}
