package kind

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"neighbour/internal/core/machine/deps"
)

// packagesOf name what provides the programs that projects run most.
var packagesOf = map[string]Packages{
	"node": {Debian: "nodejs", Homebrew: "node"}, "npm": {Debian: "npm", Homebrew: "node"}, "npx": {Debian: "npm", Homebrew: "node"},
	"php": {Debian: "php-cli", Homebrew: "php"}, "composer": {Debian: "composer", Homebrew: "composer"},
	"python3": {Debian: "python3 python3-venv", Homebrew: "python"}, "python": {Debian: "python-is-python3", Homebrew: "python"},
	"ruby": {Debian: "ruby", Homebrew: "ruby"}, "bundle": {Debian: "ruby-bundler", Homebrew: "ruby"},
	"go": {Debian: "golang-go", Homebrew: "go"}, "java": {Debian: "default-jre", Homebrew: "openjdk"}, "mvn": {Debian: "maven", Homebrew: "maven"},
	"psql": {Debian: "postgresql-client", Homebrew: "libpq"}, "redis-cli": {Debian: "redis-tools", Homebrew: "redis"},
	"make": {Debian: "make", Homebrew: "make"}, "nginx": {Debian: "nginx", Homebrew: "nginx"}, "perl": {Debian: "perl", Homebrew: "perl"},
	"elixir": {Debian: "elixir", Homebrew: "elixir"}, "cargo": {Debian: "cargo", Homebrew: "rust"}, "deno": {Homebrew: "deno"},
}

// PackagesOf returns what provides a program that projects run; empty if that isn't
// known.
func PackagesOf(name string) Packages { return packagesOf[name] }

// Look finds the program that a command in dir names: from dir if the name has a slash,
// otherwise in a search path, whose relative folders are seen from dir. What is neither is a
// *MissingError, which says that it was looked for in looked; a file of the project that is
// not there is a *AbsentError.
func Look(name, searchPath, looked, dir string) (string, error) {
	if !strings.Contains(name, "/") {
		if found := InPath(name, searchPath, dir); len(found) > 0 {
			return found[0], nil
		}
		for _, folder := range filepath.SplitList(searchPath) {
			if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) && deps.IsBin(folder) {
				return "", &AbsentError{Err: fmt.Errorf("there is no program %s in PATH, and its packages are not installed: there is no %s; install them with %s, or have a preparation do it", name, folder, deps.Installer(folder))}
			}
		}
		return "", &MissingError{Program: name, Looked: looked, Packages: packagesOf[name]}
	}
	path := name
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	info, err := os.Stat(path)
	switch {
	case err != nil || info.IsDir():
		return "", &AbsentError{Err: fmt.Errorf("there is no program %s; build it, or correct the command", path)}
	case info.Mode()&0o111 == 0:
		return "", fmt.Errorf("%s is not executable; make it so with: chmod +x %s", path, path)
	}
	return path, nil
}
