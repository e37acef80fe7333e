// Package custom is a kind that a project or a user declares in TOML.
package custom

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/tree"
)

// Kind is a declared kind.
type Kind struct{ *declare.CustomKind }

// New makes the kind of a declaration.
func New(k *declare.CustomKind) kind.Kind {
	switch base := (Kind{k}); {
	case len(k.Data) > 0 && !k.Console.IsZero():
		return struct {
			withConsole
			holding
		}{withConsole{base}, holding{base}}
	case len(k.Data) > 0:
		return struct {
			Kind
			holding
		}{base, holding{base}}
	case !k.Console.IsZero():
		return withConsole{base}
	default:
		return base
	}
}

// withConsole is a kind that declares its client.
type withConsole struct{ Kind }

// Console returns the declared client.
func (k withConsole) Console(in *kind.Instance) ([]string, error) {
	return in.Argv(k.CustomKind.Console)
}

// Info describes the kind.
func (k Kind) Info() kind.Info {
	about := k.About
	if about == "" {
		about = k.Name
	}
	return kind.Info{
		Name: k.Name, About: about, Listens: k.Port != 0, UsualPort: max(k.Port, 4100), Facts: k.FactNames(), HTTP: k.HTTP(),
		Packages: k.packages(), Accounts: k.Accounts,
	}
}

func (k Kind) packages() kind.Packages {
	return kind.Packages{Debian: k.Packages.Debian, Homebrew: k.Packages.Homebrew}
}

// anyVersion finds a version where the declaration doesn't say how.
var anyVersion = lazyregexp.New(`(\d+\.\d+(?:\.\d+)*)`)

// Find looks for the program.
func (k Kind) Find(in *kind.Instance) (kind.Program, error) {
	var paths, looked []string
	for _, p := range k.Program {
		if !strings.Contains(p.Value, "/") {
			paths, looked = append(paths, kind.Candidates(p.Value)...), append(looked, "PATH: "+p.Value)
			continue
		}
		matches, err := filepath.Glob(p.Value)
		if err != nil {
			return kind.Program{}, fmt.Errorf("%s: program %q is not a path or a pattern of paths: %w", p.At, p.Value, err)
		}
		slices.Reverse(matches)
		paths, looked = append(paths, matches...), append(looked, p.Value)
	}
	if paths = kind.Executables(paths); len(paths) == 0 {
		return kind.Program{}, &kind.MissingError{Program: filepath.Base(k.Program[0].Value), Looked: strings.Join(looked, ", "), Packages: k.packages()}
	}
	if in.Untrusted { // nothing that a project names is executed to look at it
		return kind.Program{Path: paths[0], Dir: filepath.Dir(paths[0])}, nil
	}
	constraint := k.VersionOf(in.Service)
	if !k.TellsVersion() {
		if constraint.String() != "" {
			return kind.Program{}, fmt.Errorf("version = %q can't be checked, since the kind %s doesn't say how its program tells its version; add version = { args = [\"--version\"] } to [kind.%s]", constraint, k.Name, k.Name)
		}
		return kind.Program{Path: paths[0], Dir: filepath.Dir(paths[0])}, nil
	}
	ask, expression := k.Version.Args, kind.Expression(anyVersion)
	if len(ask) == 0 {
		ask = []string{"--version"}
	}
	if k.Version.Match.Regexp != nil {
		expression = k.Version.Match.Regexp
	}
	programs, err := kind.Versions(paths, ask, expression)
	if err != nil {
		return kind.Program{}, err
	}
	return kind.Choose(k.Name, programs, constraint, k.Packages.Debian)
}

func data(in *kind.Instance) string { return filepath.Join(in.Data, "files") }

// Self returns the value of ${self.NAME}.
func (k Kind) Self(in *kind.Instance, name string) (kind.Fact, error) {
	switch name {
	case "name":
		return kind.Fact{Value: in.Service.Name}, nil
	case "port":
		return kind.Fact{Value: strconv.Itoa(in.Port)}, nil
	case "data":
		return kind.Fact{Value: data(in)}, nil
	case "run":
		return kind.Fact{Value: in.Run}, nil
	case "program", "version":
		p, err := in.Program, error(nil)
		if p.Path == "" {
			p, err = k.Find(in)
		}
		if name == "version" {
			return kind.Fact{Value: p.Version}, err
		}
		return kind.Fact{Value: p.Path}, err
	case "password":
		password, err := in.Secret("password")
		return kind.Fact{Value: password, Secret: true}, err
	}
	text, ok := k.ValueOf(in.Service, name)
	if !ok {
		return kind.Fact{}, fmt.Errorf("the kind %s has no value ${self.%s}", k.Name, name)
	}
	return in.Expand(text)
}

// Prepare writes the declared files at each start, and runs the declared
// commands once. Data that an interrupted preparation left is made anew.
func (k Kind) Prepare(ctx context.Context, in *kind.Instance, report func(string)) error {
	for _, name := range slices.Sorted(maps.Keys(k.Files)) {
		f, err := in.Expand(k.Files[name].Value)
		if err != nil {
			return err
		}
		if _, err := in.WriteRun(name, f.Value, true); err != nil {
			return err
		}
	}
	begun, done := filepath.Join(in.Data, "preparing"), filepath.Join(in.Data, "prepared")
	if _, err := os.Stat(begun); err == nil {
		if err := tree.Remove(data(in)); err != nil {
			return err
		}
	}
	if err := os.Mkdir(data(in), 0o700); err == nil {
		if err := in.Account.Own(data(in)); err != nil {
			return err
		}
	} else if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if _, err := os.Stat(done); err == nil || len(k.CustomKind.Prepare) == 0 {
		return nil
	}
	if left, err := os.ReadDir(data(in)); err == nil && len(left) == 0 {
		if err := os.WriteFile(begun, nil, 0o600); err != nil {
			return err
		}
	}
	for _, c := range k.CustomKind.Prepare {
		report(c.String())
		argv, err := k.argv(in, c)
		if err != nil {
			return err
		}
		cmd := in.Command(ctx, argv[0], argv[1:]...)
		cmd.Dir = data(in)
		env, err := k.environment(in)
		if err != nil {
			return err
		}
		cmd.Env = append(cmd.Env, env...)
		if out, err := cmd.CombinedOutput(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("%s failed: %w\n%s", c, err, strings.TrimSpace(string(out)))
		}
	}
	if err := os.WriteFile(done, nil, 0o600); err != nil {
		return err
	}
	if err := os.Remove(begun); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// argv returns a command; the program's own name means the one that was found.
func (k Kind) argv(in *kind.Instance, c declare.Command) ([]string, error) {
	argv, err := in.Argv(c)
	if err != nil {
		return nil, err
	}
	if argv[0] == filepath.Base(in.Program.Path) {
		argv[0] = in.Program.Path
	}
	return argv, nil
}

// environment returns what the kind adds to that of its services.
func (k Kind) environment(in *kind.Instance) ([]string, error) {
	var env []string
	for _, name := range slices.Sorted(maps.Keys(k.Env)) {
		if _, own := in.Env[name]; own {
			continue
		}
		f, err := in.Expand(k.Env[name].Value)
		if err != nil {
			return nil, err
		}
		env = append(env, name+"="+f.Value)
	}
	return env, nil
}

// Launch runs the declared command in the data folder.
func (k Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv, err := k.argv(in, k.Run)
	if err != nil {
		return kind.Launch{}, err
	}
	env, err := k.environment(in)
	return kind.Launch{Argv: argv, Env: env, Dir: data(in), Signal: "TERM"}, err
}

// Facts returns those declared, and the address.
func (k Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	facts := map[string]kind.Fact{}
	if in.Port != 0 {
		facts["host"], facts["port"] = kind.Fact{Value: "127.0.0.1"}, kind.Fact{Value: strconv.Itoa(in.Port)}
	}
	for name, text := range k.CustomKind.Facts {
		f, err := in.Expand(text.Value)
		if err != nil {
			return nil, err
		}
		facts[name] = f
	}
	return facts, nil
}

// Probe returns a connection to its port, if it has one. A declared check goes
// before it.
func (k Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	if in.Port == 0 {
		return nil, nil
	}
	return probe.TCP("127.0.0.1:" + strconv.Itoa(in.Port)), nil
}
