// Package deps knows the package managers of applications: by which files of a
// folder one is recognised, what installs the packages, and where their
// programs are then.
package deps

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// Set is the packages of one folder.
type Set struct {
	Tool    string // "npm"
	Install string // what installs them: "npm ci"
	When    string // the file that says which: "package-lock.json"
	Makes   string // the folder that they are in then: "node_modules"
	Bin     string // and where their programs are: "node_modules/.bin"
}

// Preparation returns the entry of a service's prepare that installs the packages. Folder is
// where they are and own where the service runs, both from the project's.
func (s Set) Preparation(folder, own string) string {
	folder, own = path.Clean(filepath.ToSlash(folder)), path.Clean(filepath.ToSlash(own))
	in := ""
	if folder != own {
		in = fmt.Sprintf("dir = %q, ", folder)
	}
	return fmt.Sprintf("{ run = %q, %swhen = [%q], makes = [%q] }", s.Install, in, path.Join(folder, s.When), path.Join(folder, s.Makes))
}

// Node returns the packages of a package.json. Has tells which files are beside it.
func Node(has func(name string) bool) Set {
	s := Set{Makes: "node_modules", Bin: "node_modules/.bin"}
	for _, t := range []Set{
		{Tool: "bun", Install: "bun install --frozen-lockfile", When: "bun.lock"},
		{Tool: "pnpm", Install: "pnpm install --frozen-lockfile", When: "pnpm-lock.yaml"},
		{Tool: "yarn", Install: "yarn install --frozen-lockfile", When: "yarn.lock"},
		{Tool: "npm", Install: "npm ci", When: "package-lock.json"},
	} {
		if has(t.When) {
			s.Tool, s.Install, s.When = t.Tool, t.Install, t.When
			return s
		}
	}
	s.Tool, s.Install, s.When = "npm", "npm install", "package.json"
	return s
}

// Composer returns the packages of a composer.json.
func Composer(has func(name string) bool) Set {
	s := Set{Tool: "composer", Install: "composer install --no-interaction", When: "composer.json", Makes: "vendor", Bin: "vendor/bin"}
	if has("composer.lock") {
		s.When = "composer.lock"
	}
	return s
}

// Python returns the packages of dir, or of a folder above it up to root, that name Python's, and
// the folder that they belong to. They need not be in an environment of the project's, so that
// whether they are installed is known to the interpreter alone.
func Python(dir, root string) (s Set, at string, is bool) {
	for at = dir; ; at = filepath.Dir(at) {
		for _, t := range []struct{ file, install string }{{"requirements.txt", "-r requirements.txt"}, {"pyproject.toml", "-e ."}} {
			if _, err := os.Stat(filepath.Join(at, t.file)); err == nil {
				return Set{Tool: "pip", Install: "python3 -m venv .venv && .venv/bin/pip install " + t.install, When: t.file, Makes: ".venv", Bin: ".venv/bin"}, at, true
			}
		}
		if at == root || at == filepath.Dir(at) {
			return Set{}, "", false
		}
	}
}

// In returns the packages of a folder, by the files in it.
func In(dir string) []Set {
	has := func(name string) bool {
		_, err := os.Stat(filepath.Join(dir, name))
		return err == nil
	}
	var out []Set
	if has("package.json") {
		out = append(out, Node(has))
	}
	if has("composer.json") {
		out = append(out, Composer(has))
	}
	return out
}

// Bins returns the folders below dir where the programs of its packages are, or will be once they
// are installed: also those of an environment of Python's and of Ruby's bundle.
func Bins(dir string) []string {
	var out []string
	for _, s := range In(dir) {
		out = append(out, filepath.Join(dir, s.Bin))
	}
	for _, kept := range []struct{ bin, beside string }{{".venv/bin", "python"}, {"venv/bin", "python"}, {"bin", "../Gemfile"}} {
		if _, err := os.Stat(filepath.Join(dir, kept.bin, kept.beside)); err == nil {
			out = append(out, filepath.Join(dir, kept.bin))
		}
	}
	return out
}

// owner returns the packages whose programs are in a folder.
func owner(bin string) (Set, bool) {
	for _, s := range []Set{{Bin: "node_modules/.bin"}, {Bin: "vendor/bin"}} {
		if dir, is := strings.CutSuffix(filepath.ToSlash(bin), "/"+s.Bin); is {
			for _, in := range In(filepath.FromSlash(dir)) {
				if in.Bin == s.Bin {
					return in, true
				}
			}
		}
	}
	return Set{}, false
}

// IsBin reports whether a folder is where the programs of packages are, or will be.
func IsBin(folder string) bool {
	_, is := owner(folder)
	return is
}

// Installer returns the command that installs the packages whose programs are in a folder.
func Installer(bin string) string {
	s, _ := owner(bin)
	return s.Install
}

// Missing returns the packages of dir, or of a folder above it up to root, that are declared and
// not installed, and the folder that they belong to.
func Missing(dir, root string) (s Set, at string, missing bool) {
	for at = dir; ; at = filepath.Dir(at) {
		for _, s := range In(at) {
			if _, err := os.Stat(filepath.Join(at, s.Makes)); os.IsNotExist(err) && s.declares(at) {
				return s, at, true
			} else if err == nil {
				return Set{}, "", false
			}
		}
		if at == root || at == filepath.Dir(at) {
			return Set{}, "", false
		}
	}
}

// declares reports whether the manifest names any packages.
func (s Set) declares(dir string) bool {
	var m struct {
		Dependencies map[string]any `json:"dependencies"`
		Development  map[string]any `json:"devDependencies"`
		Require      map[string]any `json:"require"`
	}
	manifest := "package.json"
	if s.Tool == "composer" {
		manifest = "composer.json"
	}
	b, err := os.ReadFile(filepath.Join(dir, manifest))
	if err != nil || json.Unmarshal(b, &m) != nil {
		return false
	}
	n := 0
	for name := range m.Require {
		if strings.Contains(name, "/") { // php and ext-… are no packages
			n++
		}
	}
	return len(m.Dependencies)+len(m.Development)+n > 0
}
