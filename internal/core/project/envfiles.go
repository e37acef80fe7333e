package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/input"
	"neighbour/internal/core/project/drift"
)

// envNames are the names of env files, in the order in which most readers let
// one go over another.
var envNames = []string{".env", ".env.development", ".env.test", ".env.production", ".env.local", ".env.development.local", ".env.production.local", ".env.staging"}

// envLimit is how big an env file may be, in bytes.
const envLimit = 1 << 20

// EnvFile is an env file of the project, compared with what a service gets.
type EnvFile struct {
	Path string `json:"path"` // from the project's folder
	// Service is the one that it is compared with: one that runs in its
	// folder.
	Service    string        `json:"service,omitempty"`
	Production bool          `json:"production,omitempty"`
	Drift      []drift.Drift `json:"drift"`
	// Problem says why it can't be read, at Line if that is not 0.
	Problem string `json:"problem,omitempty"`
	Line    int    `json:"line,omitempty"`
}

// readEnvFile reads an env file; nil if there is none.
func readEnvFile(path string) ([]byte, error) {
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		if info, err = os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			target, _ := os.Readlink(path)
			return nil, fmt.Errorf("it is a link to %s, which doesn't exist", target)
		} else if err != nil {
			return nil, err
		}
	}
	switch {
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no file")
	case info.Size() > envLimit:
		return nil, fmt.Errorf("it has %d MB, far more than an env file has", info.Size()>>20)
	}
	b, err := input.Read(path)
	if err != nil {
		return nil, err
	}
	if bytes.IndexByte(b, 0) >= 0 {
		return nil, errors.New("it is not a text")
	}
	return append([]byte{}, b...), nil
}

// EnvFiles compares the project's env files with what the declaration
// provides: those in its own folder, and in the folders of its programs.
func (p *Project) EnvFiles() []EnvFile {
	var servers []drift.Server
	byDir := map[string][]*declare.Service{p.Dir: nil}
	var programs []*declare.Service
	for _, s := range p.Services {
		if !p.Kind(s).Info().InheritEnv {
			if facts, err := p.Facts(s.Name); err == nil {
				servers = append(servers, drift.Server{Name: s.Name, Kind: s.Kind, Facts: facts})
			}
			continue
		}
		programs = append(programs, s)
		byDir[p.WorkingDir(s)] = append(byDir[p.WorkingDir(s)], s)
	}
	if len(byDir[p.Dir]) == 0 {
		byDir[p.Dir] = programs // the project's files are for all of them
	}
	var out []EnvFile
	var dirs []string
	for dir := range byDir {
		dirs = append(dirs, dir)
	}
	slices.Sort(dirs)
	for _, dir := range dirs {
		for _, name := range envNames {
			out = append(out, p.compare(filepath.Join(dir, name), byDir[dir], servers)...)
		}
	}
	return out
}

func (p *Project) compare(path string, services []*declare.Service, servers []drift.Server) []EnvFile {
	rel := path
	if r, err := filepath.Rel(p.Dir, path); err == nil && filepath.IsLocal(r) {
		rel = r
	}
	file := EnvFile{Path: rel, Production: strings.Contains(filepath.Base(path), "production")}
	src, err := readEnvFile(path)
	if err != nil {
		file.Problem = err.Error()
		return []EnvFile{file}
	}
	if src == nil {
		return nil
	}
	entries, problems := wire.ParseEnvFile(string(src))
	var out []EnvFile
	for _, problem := range problems {
		bad := file
		bad.Problem, bad.Line = problem.Message, problem.Line
		out = append(out, bad)
	}
	// What Neighbour itself writes into the file is provided, too.
	var own []wire.Variable
	if p.EnvFile != nil && filepath.Clean(p.EnvFile.Write.Value) == rel {
		own, _ = p.FileVariables()
	}
	if len(services) == 0 {
		file.Drift = drift.Compare(entries, own, servers, file.Production)
		return append(out, file)
	}
	var compared []EnvFile
	for _, s := range services {
		vars, err := p.Variables(s)
		if err != nil {
			continue // told with the service
		}
		for _, v := range own {
			if !slices.ContainsFunc(vars, func(other wire.Variable) bool { return other.Name == v.Name }) {
				vars = append(vars, v)
			}
		}
		with := file
		with.Service = s.Name
		with.Drift = drift.Compare(entries, vars, servers, file.Production)
		compared = append(compared, with)
	}
	if len(compared) > 1 {
		compared = shared(file, compared)
	}
	return append(out, compared...)
}

// shared puts together what a file that is for several services is compared
// with: a service's own variables with the service, and what none of them
// gets from the declaration once, for whoever reads it. What a service lacks
// in such a file is most likely not meant to be there.
func shared(file EnvFile, compared []EnvFile) []EnvFile {
	provided := map[string]bool{}
	for _, c := range compared {
		for _, d := range c.Drift {
			provided[d.Name] = provided[d.Name] || d.Provided
		}
	}
	rest := file
	for i := range compared {
		var own []drift.Drift
		for _, d := range compared[i].Drift {
			switch {
			case d.Provided && d.Result != drift.Missing:
				own = append(own, d)
			case !d.Provided && provided[d.Name] && d.Result == drift.Elsewhere:
				own = append(own, d) // others get it from the declaration, and this one what the file says
			case !d.Provided && !provided[d.Name] && i == 0:
				rest.Drift = append(rest.Drift, d)
			}
		}
		compared[i].Drift = own
	}
	return append(compared, rest)
}

// FileVariables returns the variables of the declared env file.
func (p *Project) FileVariables() ([]wire.Variable, error) {
	if p.EnvFile == nil {
		return nil, nil
	}
	return p.Wiring().Texts("env.keys", p.EnvFile.Keys)
}

// WriteEnvFile writes the declared env file, between Neighbour's own lines,
// if that changes it. Tracked says that git tracks the file. A copy writes none: the file is for
// what is run beside it.
func (p *Project) WriteEnvFile() (tracked bool, err error) {
	if p.EnvFile == nil || p.Copy != "" {
		return false, nil
	}
	vars, err := p.FileVariables()
	if err != nil {
		return false, err
	}
	path := p.EnvFile.Write.Value
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.Dir, path)
	}
	fail := func(err error) (bool, error) {
		return false, fmt.Errorf("%s: %s can't be written: %w", p.EnvFile.Write.At, p.EnvFile.Write.Value, err)
	}
	// A link that came with the project must not lead anywhere else.
	if real := leadsTo(path); !filepath.IsAbs(p.EnvFile.Write.Value) {
		if rel, err := filepath.Rel(leadsTo(p.Dir), real); err != nil || !filepath.IsLocal(rel) {
			return fail(fmt.Errorf("a link leads out of the project, to %s; declare the whole path if that is meant", real))
		}
	}
	src, err := readEnvFile(path)
	if err != nil {
		return fail(err)
	}
	text, err := wire.SetBlock(src, vars)
	if err != nil {
		return fail(err)
	}
	tracked = Tracked(path)
	if src != nil && bytes.Equal(src, text) {
		return tracked, nil
	}
	mode := fs.FileMode(0o600) // it may hold passwords
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real // the file, not the link, is replaced
		}
	}
	if err := atomicfile.Write(path, text, mode); err != nil {
		return fail(err)
	}
	return tracked, nil
}

// leadsTo follows the links on the way to a file and of it, as far as it is there.
func leadsTo(path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		return filepath.Join(real, filepath.Base(path))
	}
	return path
}

// Tracked reports whether git tracks a file.
func Tracked(path string) bool {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil {
			break
		}
		if dir == filepath.Dir(dir) {
			return false
		}
	}
	return git(filepath.Dir(path), "ls-files", "--error-unmatch", "--", filepath.Base(path)).Run() == nil
}

// FreePort returns a free port from a number upward that no project of this user
// has.
func (p *Project) FreePort(from int) (int, error) {
	p.ports.mu.Lock()
	defer p.ports.mu.Unlock()
	if err := p.ports.load(); err != nil {
		return 0, err
	}
	return p.pick(from, p.ports.all)
}

// envBlock returns the path of the env file that starts write, and whether it has lines of ours.
func (p *Project) envBlock() (path string, has bool) {
	if p.Declaration == nil || p.EnvFile == nil || p.Copy != "" {
		return "", false
	}
	if path = p.EnvFile.Write.Value; !filepath.IsAbs(path) {
		path = filepath.Join(p.Dir, path)
	}
	src, err := readEnvFile(path)
	if err != nil || src == nil {
		return path, false
	}
	rest, err := wire.SetBlock(src, nil)
	return path, err == nil && !bytes.Equal(src, rest)
}

// removeEnvBlock removes our lines from the env file that starts write, and the file if nothing else
// is in it.
func (p *Project) removeEnvBlock() error {
	path, has := p.envBlock()
	if !has {
		return nil
	}
	src, err := readEnvFile(path)
	if err != nil {
		return err
	}
	rest, err := wire.SetBlock(src, nil)
	if err != nil {
		return err
	}
	if len(bytes.TrimSpace(rest)) == 0 {
		return os.Remove(path)
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	return atomicfile.Write(path, rest, info.Mode().Perm())
}
