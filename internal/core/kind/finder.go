package kind

import (
	"os"
	"runtime"
	"strings"

	"neighbour/internal/core/declaration/declare"
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
	Version Expression
}

// All lists the installed versions, the newest first; a *MissingError if
// there is none.
func (f Finder) All() ([]Program, error) {
	paths := Candidates(f.Program, f.Places...)
	if f.Also != "" {
		paths = Executables(append(paths, Candidates(f.Also, f.Places...)...))
	}
	if len(paths) == 0 {
		return nil, &MissingError{Program: strings.TrimSuffix(f.Program, "*"), Looked: Looked(f.Places), Packages: f.Packages}
	}
	ask := f.Ask
	if ask == "" {
		ask = "--version"
	}
	return Versions(paths, []string{ask}, f.Version)
}

// Looked names the places where a program was looked for, those of other systems left out.
func Looked(places []string) string {
	out := []string{"PATH"}
	for _, p := range places {
		fixed, _, _ := strings.Cut(p, "*")
		if root := strings.SplitN(fixed, "/", 4); len(root) > 2 {
			if _, err := os.Stat("/" + root[1] + "/" + root[2]); err != nil {
				continue
			}
		}
		if runtime.GOOS == "linux" && strings.HasPrefix(p, "/usr/local/opt/") { // Homebrew's
			continue
		}
		out = append(out, p)
	}
	return strings.Join(out, ", ")
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
