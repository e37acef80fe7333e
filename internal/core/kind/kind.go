// Package kind defines what Neighbour knows about a sort of service. Each
// kind is a package of its own below this one; the list of them is in
// package catalogue.
package kind

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/outbox"
	"neighbour/internal/core/probe"
	"neighbour/internal/core/proc"
)

// Kind is a sort of service.
type Kind interface {
	// Info is what holds for all services of the kind.
	Info() Info
	// Settings makes an empty value of the kind's own keys, a pointer to a
	// struct with toml tags.
	Settings() any
	// Find looks for the installed program. Its error names what is missing
	// and how to get it; a *MissingError where a package is missing.
	Find(in *Instance) (Program, error)
	// Launch says how to start the server.
	Launch(in *Instance) (Launch, error)
	// Facts are the values that a service offers others; all of Info.Facts.
	Facts(in *Instance) (map[string]Fact, error)
	// Probe is the check by the server's own protocol; nil where only the
	// program itself could tell.
	Probe(in *Instance) (probe.Probe, error)
}

// Preparer is implemented by kinds that must do something once before the
// first start. Prepare calls report with each step before it is done, and
// does nothing if all is done already.
type Preparer interface {
	Prepare(ctx context.Context, in *Instance, report func(step string)) error
}

// Provisioner is implemented by kinds that set something up in a server that
// accepts connections before it counts as ready.
type Provisioner interface {
	Provision(in *Instance) Provisioning
}

// Provisioning is one start of a server. Its check is used in place of the
// kind's until it is answered well; then Provision is called, which may go on
// with what the check has opened.
type Provisioning interface {
	probe.Probe
	Provision(ctx context.Context, report func(step string)) error
}

// Selfer is implemented by kinds whose declaration refers to values of the
// service itself, as ${self.NAME}.
type Selfer interface {
	Self(in *Instance, name string) (Fact, error)
}

// Consoler is implemented by kinds that have an interactive client.
type Consoler interface {
	// Console is its command, connected to the service.
	Console(in *Instance) ([]string, error)
}

// Client is implemented by kinds whose clients read variables of their own,
// by custom or standard.
type Client interface {
	ClientVariables(in *Instance) (map[string]string, error)
}

// CheckNames reports, under a key, the names that are empty, longer than
// limit bytes, hold one of the banned characters, or are there twice.
func CheckNames(key string, names []string, limit int, banned string, report func(key, message, remedy string)) {
	for i, name := range names {
		if name == "" || len(name) > limit || strings.ContainsAny(name, banned) {
			remedy := fmt.Sprintf("use 1 to %d characters", limit)
			if printable := strings.Trim(banned, "\x00\n"); printable != "" {
				remedy += ", none of them one of " + printable
			}
			report(key, fmt.Sprintf("%q can't be a name here", name), remedy)
		}
		if slices.Contains(names[:i], name) {
			report(key, fmt.Sprintf("%q is there twice", name), "remove one")
		}
	}
}

// UserFacts returns the names of the facts of declared users: each has a password,
// and an address with it, as "reader.password" and "reader.url".
func UserFacts(users []string) []string {
	var names []string
	for _, u := range users {
		names = append(names, u+".url", u+".password")
	}
	return names
}

// AddUserFacts adds the facts of declared users, whose passwords are secrets
// of their own. Address makes a user's address.
func AddUserFacts(in *Instance, facts map[string]Fact, users []string, address func(user, password string) string) error {
	for _, u := range users {
		password, err := in.UserPassword(u)
		if err != nil {
			return err
		}
		facts[u+".url"], facts[u+".password"] = Fact{Value: address(u, password), Secret: true}, Fact{Value: password, Secret: true}
	}
	return nil
}

// CheckSettings reports settings of a server that Neighbour itself makes.
func CheckSettings(settings map[string]string, ours []string, report func(key, message, remedy string)) {
	for name, value := range settings {
		if slices.Contains(ours, strings.ReplaceAll(name, "-", "_")) {
			report("settings."+name, "Neighbour sees to this setting itself", "remove it")
		}
		if name == "" || strings.ContainsAny(name, " =\n") || strings.Contains(value, "\n") {
			report("settings."+name, "can't be a setting", "write its name and its value, on one line")
		}
	}
}

// Noter is implemented by kinds that have something to say about a service's
// contents. Notes must be quick, since it is called every few seconds.
type Noter interface {
	Notes(in *Instance) []string
}

// Misbehaver is implemented by kinds whose services can be told to misbehave, for tests.
// Misbehaves says what a service does wrong now, "" for nothing. It must be quick, like
// Notes.
type Misbehaver interface {
	Misbehaves(in *Instance) string
}

// Watch says what of a service a trigger watches.
type Watch struct {
	// Trigger is its name.
	Trigger string
	// What is a collection, a bucket with a pattern, a queue.
	What string
	// Changes are the types of events that are wanted; none: all.
	Changes []string
	// Key is the column of a table that grows, and Every how often that is looked at.
	Key   string
	Every time.Duration
}

// Wants reports whether an event of a type is wanted.
func (w Watch) Wants(change string) bool {
	return len(w.Changes) == 0 || slices.Contains(w.Changes, change)
}

// Emit takes events, and the place of their source up to which they go. When it returns without
// an error they are kept, so that a queue may forget them.
type Emit func(events []outbox.Event, cursor string) error

// Emitter is implemented by kinds whose services tell what happens in them.
type Emitter interface {
	// Follow tells what happens after a place, "" being now, until the context ends or the
	// service can't be reached. Once nothing that happens is missed any more it tells the place
	// from which that is so, with no events.
	Follow(ctx context.Context, in *Instance, w Watch, cursor string, emit Emit) error
}

// Taker is implemented by kinds whose services can be sent messages.
type Taker interface {
	// Take sends a message, and returns when the service has it.
	Take(ctx context.Context, in *Instance, to string, e outbox.Event) error
}

// Recorder is implemented by kinds whose services remember what passed: requests, calls.
type Recorder interface {
	// Traffic is the address below which they tell it, as traffic.Log's Handler does.
	Traffic(in *Instance) string
}

// Explainer is implemented by kinds of web servers that can tell from their files why a request
// for an address (a path with its query) was answered with a status. Explain returns "" if
// there is nothing to tell.
type Explainer interface {
	Explain(in *Instance, address string, status int) string
}

// Warner is implemented by kinds that can tell before a start that something
// probably isn't meant as it is. Warn is called when the program is found.
type Warner interface {
	Warn(in *Instance) []string
}

// Info describes a kind.
type Info struct {
	Name  string
	About string // a few words: "PostgreSQL database"
	// Listens says that each of its services has a port; UsualPort is the
	// one to try first.
	Listens   bool
	UsualPort int
	// Check says in words what the kind's own check is: "login".
	Check string
	// Facts are the names of the facts, the most useful first.
	Facts []string
	// Packages are what provides the server, Example is a declaration of one.
	Packages Packages
	Example  string
	// Begin is the line that a service of the kind can't do without, as an
	// example; "" if there is none.
	Begin string
	// HTTP says that the fact url of its services is one of HTTP, which browsers can open.
	HTTP bool
	// Below says that names below those of its services lead to them, too, and Aside that what
	// they show is not what people come to the project for.
	Below, Aside bool
	// Changes are the types of the events that its services tell for triggers, if it is an
	// Emitter. ChangesByKey says that a column must be named that grows with each new row.
	Changes      []string
	ChangesByKey bool
	// Takes says that its services can be sent messages, by a Taker.
	Takes bool
	// Accounts are set for servers that refuse to run as root: the users to
	// run them as, the preferred first.
	Accounts []string
	// Elsewhere says that its services are not ours to start: there is no
	// process, only the declared check.
	Elsewhere bool
	// NoProcess says that there is nothing to start: what it holds is used as it
	// is, and only checked.
	NoProcess bool
	// InheritEnv gives the server the keeper's whole environment, as a
	// program of the user's expects; others get only the basics, so that
	// nothing on the machine changes what they do.
	InheritEnv bool
}

// Program is an installed program.
type Program struct {
	Path    string
	Version string // "15.18"; empty where the kind has none
	// Dir is the folder with the programs that belong to it.
	Dir string
}

// Launch is how to start a server.
type Launch struct {
	Argv   []string
	Env    []string // added to the environment
	Dir    string   // the working folder, absolute
	Signal string   // asks it to end: "TERM"
}

// Fact is a value that a service offers.
type Fact struct {
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}

// Instance is one service of a kind in a project on this machine.
type Instance struct {
	Service *declare.Service
	Project string // the project's name
	Root    string // the project's folder
	Port    int    // 0 if it has none
	// Data is the folder for what must last, Run the one for sockets and
	// generated configuration. Both are made by EnsureDirs.
	Data, Run string
	// Account is who the server runs as; nil: this user.
	Account *proc.Account
	// Secret returns the password of a name, made up on first use.
	Secret func(name string) (string, error)
	// Self is the path of this program, for emulators.
	Self string
	// Names are the host names by which the gate leads to it.
	Names []string
	// Offline says that the service may ask nothing outside this machine.
	Offline bool
	// Untrusted says that nothing that the project names is to be executed,
	// since its user has not started it yet.
	Untrusted bool
	// Program is what Find found.
	Program Program
	// Env are the declared variables, references resolved.
	Env map[string]string
	// ExtraPort returns a free port for something beside what the service is
	// there for: the same again next time, if it is still free.
	ExtraPort func(name string, usual int) (int, error)
	// GivenPort is the one that ExtraPort returned last; 0: none yet.
	GivenPort func(name string) int
	// FactsOf returns the facts of another service, which this one names in
	// its settings and so needs.
	FactsOf func(service string) (map[string]Fact, error)
	// Argv resolves the references of a command and splits it into the
	// arguments to execute.
	Argv func(declare.Command) ([]string, error)
	// Expand resolves the references of a text.
	Expand func(text string) (Fact, error)
}

// AsIs returns the instance of a service that may run: its ports beside the main one are those
// that it was given, although nobody else could have them now.
func (in *Instance) AsIs() *Instance {
	is := *in
	is.ExtraPort = func(name string, usual int) (int, error) {
		if n := in.GivenPort(name); n != 0 {
			return n, nil
		}
		return in.ExtraPort(name, usual)
	}
	return &is
}

// Login returns who the facts of a server are about: the first declared user, or
// else the server's own, whose secret is "password".
func (in *Instance) Login(users []string, own string) (user, password string, err error) {
	if len(users) > 0 {
		password, err = in.UserPassword(users[0])
		return users[0], password, err
	}
	password, err = in.Secret("password")
	return own, password, err
}

// UserPassword returns the password of a declared user.
func (in *Instance) UserPassword(name string) (string, error) { return in.Secret("user." + name) }

// EnsureDirs makes the data and run folders, owned by the account.
func (in *Instance) EnsureDirs() error {
	for _, dir := range []string{in.Data, in.Run} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		if err := in.Account.Own(dir); err != nil {
			return err
		}
	}
	return nil
}

// WriteRun writes a file of a server's configuration into its run folder, whole
// or not at all, and returns its path. Another account may change what is in
// that folder, so no link in it is followed. Own gives the file to the
// account; others can't read it.
func (in *Instance) WriteRun(name, text string, own bool) (path string, err error) {
	root, err := os.OpenRoot(in.Run)
	if err != nil {
		return "", err
	}
	defer root.Close()
	fresh := name + ".new"
	_ = root.Remove(fresh)
	f, err := root.OpenFile(fresh, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(text)
	if err == nil && own && in.Account != nil {
		err = f.Chown(in.Account.UID, in.Account.GID)
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = root.Rename(fresh, name)
	}
	return filepath.Join(in.Run, name), err
}

// Command prepares a command that runs as the instance's account with a
// basic environment, in its data folder once that is there.
func (in *Instance) Command(ctx context.Context, path string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, path, args...)
	// A keeper that follows one which was killed finds it by its mark.
	cmd.Env = append(in.BasicEnv(), proc.MarkVariable+"="+proc.Mark(in.Root, in.Service.Name))
	cmd.SysProcAttr = in.Account.Attributes()
	if _, err := os.Stat(in.Data); err == nil {
		cmd.Dir = in.Data
	} else if in.Account != nil {
		cmd.Dir = "/"
	}
	return cmd
}

// basicVariables are what a server gets of the keeper's environment.
var basicVariables = []string{"PATH", "HOME", "USER", "LOGNAME", "LANG", "TZ", "TMPDIR"}

// BasicEnv returns the environment of servers that must not be swayed by the
// user's: where programs are, the language, the time zone. Another account
// can't use this user's folders, so it gets its own home, and the machine's
// folder for temporary files.
func (in *Instance) BasicEnv() []string {
	var env []string
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if in.Account != nil && slices.Contains([]string{"HOME", "USER", "LOGNAME", "TMPDIR"}, name) {
			continue
		}
		if slices.Contains(basicVariables, name) || strings.HasPrefix(name, "LC_") {
			env = append(env, v)
		}
	}
	if in.Account != nil {
		env = append(env, "HOME="+in.Data, "USER="+in.Account.Name, "LOGNAME="+in.Account.Name)
	}
	return env
}

// MissingError says that a program isn't installed.
type MissingError struct {
	Program  string // the program's name
	Many     bool   // the name is one of several things
	Looked   string // where it was looked for; may be empty
	Packages Packages
}

// What says what is missing, without what to do.
func (e *MissingError) What() string {
	text := e.Program + " is not installed"
	if e.Many {
		text = e.Program + " are not installed"
	}
	if e.Looked != "" {
		text += " (looked in " + e.Looked + ")"
	}
	return text
}

func (e *MissingError) Error() string {
	return strings.TrimSuffix(e.What()+"; "+e.Packages.InWords(), "; ")
}

// Candidates lists the executables of a name: those in the folders that match
// the patterns, the last match first, so that the newest version comes first,
// and then the one in PATH.
func Candidates(name string, patterns ...string) []string {
	var paths []string
	for _, pattern := range patterns {
		matches, _ := filepath.Glob(filepath.Join(pattern, name))
		slices.Reverse(matches)
		paths = append(paths, matches...)
	}
	if path, err := exec.LookPath(name); err == nil {
		if abs, err := filepath.Abs(path); err == nil {
			paths = append(paths, abs)
		}
	}
	return Executables(paths)
}

// InPath lists the programs of a name in a search path, whose relative
// folders are seen from dir.
func InPath(name, path, dir string) []string {
	var found []string
	for _, folder := range filepath.SplitList(path) {
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(dir, folder)
		}
		if p, err := exec.LookPath(filepath.Join(folder, name)); err == nil {
			found = append(found, p)
		}
	}
	return Executables(found)
}

// Executables leaves out what can't be executed, and what is the same file as
// one before.
func Executables(paths []string) []string {
	var found, resolved []string
	for _, path := range paths {
		// A program may go by the name it is called by, so that a link is
		// not replaced by what it leads to.
		real, err := filepath.EvalSymlinks(path)
		if err != nil || slices.Contains(resolved, real) {
			continue
		}
		if info, err := os.Stat(real); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			found, resolved = append(found, path), append(resolved, real)
		}
	}
	return found
}

// Choose picks the first program whose version meets the constraint and
// accept, if given. Its error names what is installed instead.
func Choose(what string, programs []Program, c declare.Constraint, packages string) (Program, error) {
	var have []string
	for _, p := range programs {
		if c.Allows(p.Version) {
			return p, nil
		}
		have = append(have, fmt.Sprintf("%s (%s)", p.Version, p.Path))
	}
	return Program{}, fmt.Errorf("no installed %s meets version = %q; installed: %s; install another (%s) or change the constraint",
		what, c.String(), strings.Join(have, ", "), packages)
}

// AbsentError says that a file or folder of the project's own is not there;
// a preparation may make it.
type AbsentError struct{ Err error }

func (e *AbsentError) Error() string { return e.Err.Error() }
func (e *AbsentError) Unwrap() error { return e.Err }

// MayBeMade reports whether what is missing is the project's own.
func MayBeMade(err error) bool {
	var absent *AbsentError
	return errors.As(err, &absent)
}

// RefusedError is a server's refusal of a text that the declaration passes on
// to it.
type RefusedError struct {
	Err  error
	At   declare.Position // of the line
	Text string           // the line
}

func (e *RefusedError) Error() string { return e.Err.Error() }
func (e *RefusedError) Unwrap() error { return e.Err }

// Address returns the facts of a server that has no common form of URL.
func Address(in *Instance) map[string]Fact {
	port := strconv.Itoa(in.Port)
	return map[string]Fact{"address": {Value: "127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}
}

// URL returns the facts of a server that anybody may use.
func URL(in *Instance, scheme string) map[string]Fact {
	port := strconv.Itoa(in.Port)
	return map[string]Fact{"url": {Value: scheme + "://127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}
}
