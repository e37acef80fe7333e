// Package program is the kind of anything the user runs himself.
package program

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/deps"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Run  declare.Command `toml:"run" doc:"the command: a line for sh, or a list of arguments"`
	Dir  string          `toml:"dir" doc:"the folder to run it in, from the declaration's"`
	Once bool            `toml:"once" doc:"it runs to its end; what needs it starts after it ended well"`
	// Uses are checked before the start.
	Uses map[string]declare.Constraint `toml:"uses" doc:"the versions that will do of what it runs on: { node = \">=20\", go = \"1.26\" }"`
}

// WorkingDir returns the declared folder.
func (s *Settings) WorkingDir() string { return s.Dir }

// RunsOnce reports whether the service is meant to end by itself.
func (s *Settings) RunsOnce() bool { return s.Once }

// Command returns the declared command.
func (s *Settings) Command() declare.Command { return s.Run }

// CommandLine returns the command as the file has it.
func (s *Settings) CommandLine() string { return s.Run.String() }

// Check reports a service without a command.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if s.Run.IsZero() {
		report("run", "a program needs a command", `add run = "node server.js", or a kind`)
	}
}

const example = `
[service.api]
run = "node server.js"
dir = "api"
port = 4100
uses = { node = ">=20" }
health = { http = "/healthz" }
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "program", Begin: `run = "npm start"`, Example: example, About: "program", UsualPort: 4100, Facts: []string{"url", "host", "port"}, HTTP: true, InheritEnv: true}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// packages name what provides the programs that projects run most.
var packages = map[string]kind.Packages{
	"node": {Debian: "nodejs", Homebrew: "node"}, "npm": {Debian: "npm", Homebrew: "node"}, "npx": {Debian: "npm", Homebrew: "node"},
	"php": {Debian: "php-cli", Homebrew: "php"}, "composer": {Debian: "composer", Homebrew: "composer"},
	"python3": {Debian: "python3 python3-venv", Homebrew: "python"}, "python": {Debian: "python-is-python3", Homebrew: "python"},
	"ruby": {Debian: "ruby", Homebrew: "ruby"}, "bundle": {Debian: "ruby-bundler", Homebrew: "ruby"},
	"go": {Debian: "golang-go", Homebrew: "go"}, "java": {Debian: "default-jre", Homebrew: "openjdk"}, "mvn": {Debian: "maven", Homebrew: "maven"},
	"psql": {Debian: "postgresql-client", Homebrew: "libpq"}, "redis-cli": {Debian: "redis-tools", Homebrew: "redis"},
	"make": {Debian: "make", Homebrew: "make"}, "nginx": {Debian: "nginx", Homebrew: "nginx"}, "perl": {Debian: "perl", Homebrew: "perl"},
	"elixir": {Debian: "elixir", Homebrew: "elixir"}, "cargo": {Debian: "cargo", Homebrew: "rust"}, "deno": {Homebrew: "deno"},
}

// Packages returns what provides a program that projects run; empty if that isn't
// known.
func Packages(name string) kind.Packages { return packages[name] }

// Find looks up the command and its folder.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s := in.Service.Settings.(*Settings)
	dir := folder(in)
	if info, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return kind.Program{}, fmt.Errorf("its working folder %s doesn't exist; create it, or correct dir = %q", dir, s.Dir)
	} else if err != nil {
		return kind.Program{}, fmt.Errorf("its working folder can't be used: %w", err)
	} else if !info.IsDir() {
		return kind.Program{}, fmt.Errorf("its working folder %s is a file; correct dir = %q", dir, s.Dir)
	}
	argv, err := argv(in)
	if err != nil {
		return kind.Program{}, err
	}
	path, err := look(in, argv[0])
	if err == nil {
		err = checkUses(in)
	}
	return kind.Program{Path: path}, err
}

func folder(in *kind.Instance) string {
	dir := in.Service.Settings.(*Settings).Dir
	if filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(in.Root, dir)
}

// argv returns the command as a list of arguments, references resolved.
func argv(in *kind.Instance) ([]string, error) {
	run := in.Service.Settings.(*Settings).Run
	return in.Argv(run)
}

// look finds a program in the PATH that the service gets, or from its folder
// if the name has a slash.
func look(in *kind.Instance, name string) (string, error) {
	return Look(name, searchPath(in), whichPath(in), folder(in))
}

// Look finds the program that a command in dir names: from dir if the name has a slash,
// otherwise in a search path, whose relative folders are seen from dir. What is neither is a
// *kind.MissingError, which says that it was looked for in looked; a file of the project that is
// not there is a *kind.AbsentError.
func Look(name, searchPath, looked, dir string) (string, error) {
	if !strings.Contains(name, "/") {
		if found := kind.InPath(name, searchPath, dir); len(found) > 0 {
			return found[0], nil
		}
		for _, folder := range filepath.SplitList(searchPath) {
			if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) && deps.IsBin(folder) {
				return "", &kind.AbsentError{Err: fmt.Errorf("there is no program %s in PATH, and its packages are not installed: there is no %s; install them with %s, or have a preparation do it", name, folder, deps.Installer(folder))}
			}
		}
		return "", &kind.MissingError{Program: name, Looked: looked, Packages: packages[name]}
	}
	path := name
	if !filepath.IsAbs(path) {
		path = filepath.Join(dir, path)
	}
	info, err := os.Stat(path)
	switch {
	case err != nil || info.IsDir():
		return "", &kind.AbsentError{Err: fmt.Errorf("there is no program %s; build it, or correct the command", path)}
	case info.Mode()&0o111 == 0:
		return "", fmt.Errorf("%s is not executable; make it so with: chmod +x %s", path, path)
	}
	return path, nil
}

// searchPath returns the PATH that the service gets.
func searchPath(in *kind.Instance) string {
	if own, ok := in.Env["PATH"]; ok {
		return own
	}
	return os.Getenv("PATH")
}

// whichPath names the search path where it is not the usual one.
func whichPath(in *kind.Instance) string {
	if own, ok := in.Env["PATH"]; ok {
		return "its PATH: " + own
	}
	return "PATH"
}

func inPath(in *kind.Instance, name string) []string {
	return kind.InPath(name, searchPath(in), folder(in))
}

// Console returns a shell in its folder, with its environment.
func (Kind) Console(in *kind.Instance) ([]string, error) {
	return []string{cmp.Or(os.Getenv("SHELL"), "/bin/sh")}, nil
}

// Launch runs the command.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	args, err := argv(in)
	if err != nil {
		return kind.Launch{}, err
	}
	args[0] = in.Program.Path
	return kind.Launch{Argv: args, Dir: folder(in), Signal: "TERM"}, nil
}

// Facts returns its address, if it has a port.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	if in.Port == 0 {
		return nil, nil
	}
	port := strconv.Itoa(in.Port)
	return map[string]kind.Fact{"url": {Value: "http://127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}, nil
}

// Probe returns a connection to its port, if it has one.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	if in.Port == 0 {
		return nil, nil
	}
	port := strconv.Itoa(in.Port)
	// Some runtimes take "localhost" for IPv6 only.
	return probe.TCP("127.0.0.1:"+port, "[::1]:"+port), nil
}
