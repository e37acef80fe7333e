// Package project is a declared project on this machine: its folders, its
// ports, its passwords, and from these what each of its services is started
// with.
package project

import (
	"crypto/sha256"
	"encoding/hex"
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
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/machine/proc"
)

// Project is a declared project on this machine.
type Project struct {
	*declare.Declaration
	// Self is the path of this program.
	Self string
	// LostProfile is the profile that the keeper was started with and that the
	// declaration has no more, so that this is the project without it.
	LostProfile string

	// Keepers are asked for services of other projects; nil in what is no keeper.
	Keepers Keepers

	// Copy is the name of the fresh copy of the project that this is, "" for the project itself.
	Copy string

	files     declare.Files
	base      string // the project's folder for what is kept
	state     string // the same, or the copy's within it
	number    int    // of the copy, among those made at once
	ports     *portBook
	vault     *vault
	agreement agreement
	chosen    chosen
	names     names
	certified certified
	prep      prepared
}

// Open reads the declaration in dir or the nearest folder above it, with the
// profile that the project's keeper was started with. Problems in it come
// back as declare.Problems, its lack as a *declare.MissingError.
func Open(dir string) (*Project, error) { return openChecked(dir, (*Project).checkState) }

// Glance is Open for somebody who only wants to know how a project is: it leaves out what takes
// another process, which is whether git tracks its state.
func Glance(dir string) (*Project, error) { return openChecked(dir, (*Project).checkStateFiles) }

func openChecked(dir string, check func(*Project) error) (*Project, error) {
	path, copy, err := find(dir)
	if err != nil {
		return nil, err
	}
	at := At(homeOf(path, copy))
	if err := check(at); err != nil {
		return nil, err
	}
	profile, err := at.keptProfile()
	if err != nil {
		return nil, err
	}
	p, err := open(path, copy, profile)
	var gone *declare.UnknownProfileError
	if profile != "" && errors.As(err, &gone) {
		// What runs goes on with it; nothing else needs it.
		p, err = open(path, copy, "")
		if p != nil {
			p.LostProfile = profile
		}
	}
	return p, err
}

// OpenProfile is Open with another profile, "" for none.
func OpenProfile(dir, profile string) (*Project, error) {
	path, copy, err := find(dir)
	if err != nil {
		return nil, err
	}
	p, err := open(path, copy, profile)
	if err != nil {
		return nil, err
	}
	return p, p.checkState()
}

func find(dir string) (path, copy string, err error) {
	path, copy, err = locate(dir)
	if err != nil {
		return "", "", err
	}
	return path, copy, checkOwners(path)
}

// locate finds the declaration, whoever may change it, and the copy of the project in whose
// folder dir is.
func locate(dir string) (path, copy string, err error) {
	dir, err = filepath.Abs(dir)
	if err != nil {
		return "", "", err
	}
	dir, copy = home(dir)
	path, err = declare.Find(dir)
	if err != nil {
		return "", "", err
	}
	// One project has one name for its folder, however it was reached.
	if real, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		path = filepath.Join(real, declare.FileName)
	}
	return path, copy, nil
}

// homeOf returns the folder that stands for the project of a declaration, or for a copy of it.
func homeOf(path, copy string) string {
	if copy != "" {
		return copyHome(filepath.Dir(path), copy)
	}
	return filepath.Dir(path)
}

func open(path, copy, profile string) (*Project, error) {
	files, err := declare.ReadFiles(path, configDir(), profile)
	if err != nil {
		if theirs := whose(path, err); theirs != "" {
			err = fmt.Errorf("%w%s", err, theirs)
		}
		return nil, err
	}
	d, err := files.Parse(kind.All())
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	p := At(homeOf(path, copy))
	p.Declaration, p.Self, p.files = d, self, files
	if copy != "" {
		var o copyOwner
		if err := atomicfile.ReadJSON(ownerFile(p.state), &o); err != nil {
			return nil, err
		}
		p.number = o.Number
	}
	return p, nil
}

// Stamp changes when one of the declaration's files is written.
func (p *Project) Stamp() string {
	stamp := ""
	for _, path := range []string{p.File, filepath.Join(p.Dir, declare.LocalFileName), p.files.KindsPath} {
		if info, err := os.Stat(path); err == nil {
			stamp += fmt.Sprintf("%d %d;", info.ModTime().UnixNano(), info.Size())
		} else {
			stamp += ";"
		}
	}
	return stamp
}

// Excerpt returns the lines of the declaration around a place, as
// declare.Place writes it: "neighbour.toml:12:5"; nil if the place is in no file
// of the declaration.
func (p *Project) Excerpt(place string, around int) []declare.SourceLine {
	file, rest, _ := strings.Cut(place, ":")
	line, _, _ := strings.Cut(rest, ":")
	n, err := strconv.Atoi(line)
	if err != nil {
		return nil
	}
	return p.files.Excerpt(file, n, around)
}

// Stale reports whether the declaration was changed after it was read.
func (p *Project) Stale() bool {
	now, err := declare.ReadFiles(p.File, configDir(), p.Profile)
	return err == nil && !now.Equal(p.files)
}

// KeepProfile remembers the profile for the clients of the keeper, until it
// is forgotten.
func (p *Project) KeepProfile() error {
	if p.Profile == "" {
		_ = os.Remove(p.profileFile())
		return nil
	}
	return atomicfile.Write(p.profileFile(), []byte(proc.Boot()+"\n"+p.Profile), 0o600)
}

// keptProfile returns the profile that is kept, "" if there is none, or if the
// machine was started anew since: then nothing runs with it.
func (p *Project) keptProfile() (string, error) {
	b, err := readSmall(p.profileFile())
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	boot, profile, ok := strings.Cut(string(b), "\n")
	if !ok || boot != proc.Boot() {
		return "", nil
	}
	return profile, nil
}

// ForgetChoices is called when everything is stopped: the profile, and the
// temporary ports, hold until then.
func (p *Project) ForgetChoices() {
	_ = os.Remove(p.profileFile())
	_ = os.Remove(p.insteadFile())
}

func (p *Project) profileFile() string { return filepath.Join(p.state, "run", "profile") }

// At returns the project that a folder stands for, or a copy, without its declaration: only its
// paths may be asked for. It serves where the declaration can't be read.
func At(dir string) *Project {
	dir, copy := home(dir)
	state := stateOf(dir)
	p := &Project{Declaration: &declare.Declaration{Dir: dir}, Copy: copy, base: state}
	if copy != "" {
		state = filepath.Join(state, copiesDir, copy)
	}
	p.state = state
	p.ports = &portBook{path: filepath.Join(state, "ports.json")}
	p.vault = &vault{path: filepath.Join(state, "secrets.json"), ensure: p.ensureState}
	return p
}

// Nearest is At for the project, or the copy of one, in whose folder dir is.
func Nearest(dir string) (*Project, error) {
	path, copy, err := locate(dir)
	if err != nil {
		return nil, err
	}
	return At(homeOf(path, copy)), nil
}

// Undeclared returns the project of this user in whose folder dir is, though there is no
// declaration any more, as on a branch that has none; nil if there is no such project.
func Undeclared(dir string) *Project {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil
	}
	for all := EverEnlisted(); ; dir = filepath.Dir(dir) {
		if slices.Contains(all, dir) {
			return At(dir)
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// sharedBase is where the data of servers that run under another account is,
// when this user is root: root's own folders can't be reached by them.
const sharedBase = "/var/lib/neighbour"

// Kind returns the kind of a service.
func (p *Project) Kind(s *declare.Service) kind.Kind {
	if k := p.CustomKind(s.Kind); k != nil {
		return kind.Declared(k)
	}
	return kind.All().Kind(s.Kind)
}

// Instance returns a service with what it is started with. Its program is not
// looked for, and its folders are not made.
func (p *Project) Instance(s *declare.Service) (*kind.Instance, error) {
	in, err := p.bare(s)
	if err != nil {
		return nil, err
	}
	vars, err := p.Variables(s)
	if err != nil {
		return nil, err
	}
	in.Env = map[string]string{}
	for _, v := range vars {
		in.Env[v.Name] = v.Value
	}
	return in, nil
}

// bare returns an instance as far as its facts need it.
func (p *Project) bare(s *declare.Service) (*kind.Instance, error) {
	k := p.Kind(s)
	info := k.Info()
	port, err := p.Port(s)
	if err != nil {
		return nil, err
	}
	in := &kind.Instance{
		Service: s, Project: p.Name, Root: p.Dir, Home: p.Home(), Copy: p.Copy != "", Port: port, Self: p.Self,
		Data:      filepath.Join(p.state, "data", s.Name),
		Run:       filepath.Join(p.state, "run", s.Name),
		Secret:    func(name string) (string, error) { return p.vault.secret(s.Name + "." + name) },
		Untrusted: !p.trusted(), Names: p.namesOf(s.Name), Hosts: p.hosts(), Offline: p.Offline && !p.meantOutside(s),
	}
	if p.UsesGate() {
		in.Trusted = authority.FilesIn(AuthorityDir()).Bundle
	}
	wiring := p.Wiring()
	if k, ok := k.(kind.Selfer); ok {
		wiring.Self = func(name string) (kind.Fact, error) { return k.Self(in, name) }
	}
	in.Others = otherProjects{p}
	in.Argv, in.Expand, in.FactsOf = wiring.Argv, wiring.Fact, p.Facts
	in.GivenPort = func(name string) int { return p.givenPort(s.Name + "." + name) }
	in.ExtraPort = func(name string, usual int) (int, error) { return p.extraPort(s.Name+"."+name, usual) }
	if len(info.Accounts) > 0 && os.Getuid() == 0 {
		if in.Account, err = proc.FindAccount(info.Accounts...); err != nil {
			return nil, err
		}
		p.shareData(in)
	}
	if len(in.Run)+len("/.s.PGSQL.65535") > socketLimit {
		in.Run = p.shortRunDir(s.Name)
	}
	return in, nil
}

// sharedDir is where the data of servers of the project is that run under other accounts, unless
// the project was moved since.
func (p *Project) sharedDir() string {
	sum := sha256.Sum256([]byte(p.Home()))
	return filepath.Join(sharedBase, hex.EncodeToString(sum[:8]))
}

// shareData moves an instance's folders to where its account can reach them.
// A link from the usual place leads there, and is followed if the project
// was moved since.
func (p *Project) shareData(in *kind.Instance) {
	shared := filepath.Join(p.sharedDir(), in.Service.Name)
	if target, err := os.Readlink(in.Data); err == nil {
		if info, err := os.Stat(target); err == nil && info.IsDir() {
			shared = filepath.Dir(target)
		}
	}
	in.Data, in.Run = filepath.Join(shared, "data"), filepath.Join(shared, "run")
}

// EnsureInstanceDirs makes an instance's folders.
func (p *Project) EnsureInstanceDirs(in *kind.Instance) error {
	if _, err := os.Lstat(p.state); err != nil {
		if err := p.EnsureDirs(); err != nil {
			return err
		}
	}
	if in.Account != nil {
		// Its account must be able to pass through, but not to look around.
		shared := filepath.Dir(in.Data)
		if err := os.MkdirAll(shared, 0o711); err != nil {
			return err
		}
		for _, dir := range []string{shared, filepath.Dir(shared), sharedBase} { // whatever the umask says
			if err := os.Chmod(dir, 0o711); err != nil {
				return err
			}
		}
		usual := filepath.Join(p.state, "data", in.Service.Name)
		if target, err := os.Readlink(usual); err != nil || target != in.Data {
			if err := os.Remove(usual); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("%s was made by another user; move it away: %w", usual, err)
			}
			if err := os.Symlink(in.Data, usual); err != nil {
				return err
			}
		}
	}
	if err := p.ensurePrivate(in.Run); err != nil {
		return err
	}
	if err := in.EnsureDirs(); err != nil {
		return err
	}
	return p.ensureTLS(in)
}

// DataDirs returns the folders where the services' data is, as far as they exist.
func (p *Project) DataDirs() []string {
	var out []string
	for _, s := range p.Services {
		if in, err := p.bare(s); err == nil {
			if _, err := os.Stat(in.Data); err == nil {
				out = append(out, in.Data)
			}
		}
	}
	if len(out) == 0 {
		return []string{p.Dir}
	}
	return out
}

// WorkingDir returns the folder that a service's own commands run in.
func (p *Project) WorkingDir(s *declare.Service) string {
	m, ok := s.Settings.(declare.MainProgram)
	if !ok {
		return p.Dir
	}
	if dir := m.WorkingDir(); filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(p.Dir, m.WorkingDir())
}

// Facts returns the facts of a service.
func (p *Project) Facts(service string) (map[string]kind.Fact, error) {
	s := p.Service(service)
	if s == nil {
		return nil, p.Check(service)
	}
	in, err := p.bare(s)
	if err != nil {
		return nil, err
	}
	k := p.Kind(s)
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	if p.wantsTLS(service) {
		if facts == nil {
			facts = map[string]kind.Fact{}
		}
		maps.Copy(facts, p.tlsFacts(in))
	}
	if !k.Info().HTTP || facts == nil {
		return facts, nil
	}
	if address := p.PublicURL(service); address != "" {
		facts[declare.PublicURL] = kind.Fact{Value: address}
	} else if own, ok := facts["url"]; ok { // without the gate it is reached by its own
		facts[declare.PublicURL] = own
	}
	return facts, nil
}

// Wiring resolves the project's references.
func (p *Project) Wiring() wire.Source {
	return wire.Source{Declaration: p.Declaration, Copy: p.Copy, CopyNumber: p.number, Facts: p.Facts}
}

// Variables returns what a service's environment has beside the inherited ones.
func (p *Project) Variables(s *declare.Service) ([]wire.Variable, error) {
	port, err := p.Port(s)
	if err != nil {
		return nil, err
	}
	vars, err := p.Wiring().Environment(s, port)
	if err != nil {
		return nil, err
	}
	return p.withAuthority(s, p.withRuntimes(s, vars)), nil
}

// Environment returns the whole environment that a service is started with.
func (p *Project) Environment(s *declare.Service) ([]string, error) {
	vars, err := p.Variables(s)
	if err != nil {
		return nil, err
	}
	if p.Kind(s).Info().InheritEnv {
		return wire.Merge(os.Environ(), vars), nil
	}
	in, err := p.bare(s)
	if err != nil {
		return nil, err
	}
	return wire.Merge(in.BasicEnv(), vars), nil
}
