package kind

import (
	"regexp"
	"strings"

	"neighbour/internal/core/declare"
)

// Finder finds the installed versions of a server.
type Finder struct {
	Title    string // the server's name: "Redis"
	Program  string // its program: "redis-server"; a pattern such as "php-fpm*" for several names
	Also     string // another program that is the same to its clients; may be empty
	Places   []string
	Packages Packages
	// Ask makes the program tell its version, "--version" if empty, which
	// the first group of Version finds in what it says.
	Ask     string
	Version *regexp.Regexp
}

// All lists the installed versions, the newest first; a *MissingError if
// there is none.
func (f Finder) All() ([]Program, error) {
	paths := Candidates(f.Program, f.Places...)
	if f.Also != "" {
		paths = Executables(append(paths, Candidates(f.Also, f.Places...)...))
	}
	if len(paths) == 0 {
		return nil, &MissingError{Program: strings.TrimSuffix(f.Program, "*"), Looked: strings.Join(append([]string{"PATH"}, f.Places...), ", "), Packages: f.Packages}
	}
	ask := f.Ask
	if ask == "" {
		ask = "--version"
	}
	return Versions(paths, []string{ask}, f.Version)
}

// Find returns the newest version that meets the constraint. Its error names
// what is installed instead.
func (f Finder) Find(c declare.Constraint) (Program, error) {
	programs, err := f.All()
	if err != nil {
		return Program{}, err
	}
	return Choose(f.Title, programs, c, "Debian's "+f.Packages.Debian)
}

// Places returns the folders of servers that Debian puts outside PATH, and those
// of Homebrew for a formula.
func Places(formula string) []string {
	return []string{"/usr/sbin", "/usr/bin", "/usr/local/sbin", "/opt/homebrew/opt/" + formula + "/bin", "/opt/homebrew/opt/" + formula + "/sbin", "/usr/local/opt/" + formula + "/bin"}
}
