package project

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// Command is a command that is ready to be executed.
type Command struct {
	Argv []string `json:"argv"`
	Dir  string   `json:"dir"`
	// Variables are those that it gets beside the environment of whoever executes
	// it.
	Variables []Explained `json:"variables"`
}

// ErrandCommand returns how an errand is executed, with more arguments. It gets
// what its service gets or, with a server, what leads to that, and its own
// variables on top. With, if it isn't nil, is what EnvironmentWith has returned
// for its service elsewhere.
func (p *Project) ErrandCommand(e *declare.Errand, args []string, with []Explained) (Command, error) {
	return p.command(e.WithService(), with, "errand."+e.Name, e.Dir, e.Env, e.Run, args)
}

// SeedCommand returns how a seed that is a command is executed.
func (p *Project) SeedCommand(service string, s declare.Seed) (Command, error) {
	return p.command(s.WithService(), nil, "service."+service+".seed", "", nil, s.Run, nil)
}

func (p *Project) command(with string, vars []Explained, key, dir string, env map[string]declare.Text, run declare.Command, args []string) (Command, error) {
	c := Command{Dir: p.Dir}
	if with != "" {
		if vars == nil {
			var err error
			if vars, err = p.EnvironmentWith(with, false); err != nil {
				return c, err
			}
		}
		c.Variables, c.Dir = vars, p.WorkingDir(p.Service(with))
	}
	switch {
	case filepath.IsAbs(dir):
		c.Dir = dir
	case dir != "":
		c.Dir = filepath.Join(p.Dir, dir)
	}
	own, err := p.Wiring().Texts(key+".env", env)
	if err != nil {
		return c, err
	}
	for _, v := range own {
		c.Variables = append(c.Variables, Explained{Variable: v})
	}
	argv, err := p.Wiring().Argv(run)
	if err != nil {
		return c, err
	}
	c.Argv = withArguments(argv, len(run.Args) == 0 && argv[0] == "/bin/sh", args)
	return c, nil
}

var usesArguments = lazyregexp.New(`\$(?:[@*1-9#]|\{[@*1-9#])`)

// withArguments passes arguments to a command. One that a shell runs gets them as
// "$@" at its end, unless it uses them itself.
func withArguments(argv []string, shell bool, args []string) []string {
	if !shell || len(argv) != 3 {
		return append(argv, args...)
	}
	line := argv[2]
	if len(args) > 0 && !usesArguments.MatchString(line) {
		line = strings.TrimRight(line, " \t\n") + ` "$@"`
	}
	return append([]string{argv[0], argv[1], line, "sh"}, args...)
}

// Environ returns a whole environment: that of this process with the command's
// variables on top.
func (c Command) Environ() []string {
	return Merge(os.Environ(), c.Variables)
}

// Merge puts variables on top of an environment of NAME=value. Each name is in it once: of two,
// programs take one or the other.
func Merge(base []string, vars []Explained) []string {
	plain := make([]wire.Variable, len(vars))
	for i, v := range vars {
		plain[i] = v.Variable
	}
	return wire.Merge(base, plain)
}

// Program finds the command's program: in the PATH that it gets, or from its folder
// if the name has a slash. The errors are those of kind.Look.
func (c Command) Program() (string, error) { return c.find(c.Argv[0]) }

func (c Command) find(name string) (string, error) {
	paths, looked := os.Getenv("PATH"), "PATH"
	for _, v := range c.Variables {
		if v.Name == "PATH" {
			paths, looked = v.Value, "its PATH: "+v.Value
		}
	}
	return kind.Look(name, paths, looked, c.Dir)
}

// Missing returns why the command can't begin on this machine: a program of its line is not
// there, or its folder. Of a line for the shell it looks at the programs without which the line
// is sure to fail.
func (c Command) Missing() error {
	if info, err := os.Stat(c.Dir); err != nil || !info.IsDir() {
		return &kind.AbsentError{Err: fmt.Errorf("there is no folder %s; create it, or correct dir", c.Dir)}
	}
	names := c.Argv[:1]
	if len(c.Argv) > 2 && c.Argv[0] == declare.Shell && c.Argv[1] == "-c" {
		names = declare.ShellPrograms(c.Argv[2])
	}
	for i, name := range names {
		if _, err := c.find(name); err != nil && (i == 0 || !kind.MayBeMade(err)) { // by what comes before
			return err
		}
	}
	return nil
}
