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

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
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
	return kind.Look(name, searchPath(in), whichPath(in), folder(in))
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
