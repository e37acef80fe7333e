package kind

import (
	"cmp"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/proc"
)

// Instance is one service of a kind in a project on this machine.
type Instance struct {
	Service *declare.Service
	Project string // the project's name
	Root    string // the project's folder
	// Home stands for the project, or for the fresh copy of it that Copy says this is.
	Home string
	Copy bool
	Port int // 0 if it has none
	// Data is the folder for what must last, Run the one for sockets and
	// generated configuration. Both are made by EnsureDirs.
	Data, Run string
	// Account is who the server runs as; nil: this user.
	Account *proc.Account
	// Secret returns the password of a name, made up on first use.
	Secret func(name string) (string, error)
	// Self is the path of this program, for emulators.
	Self string
	// Trusted is the file with the certificates that programs are to trust, the authority of
	// the gate among them; "" if there is none.
	Trusted string
	// Names are the host names by which the gate leads to it.
	Names []string
	// Hosts are the host names of the whole project in the gate.
	Hosts []string
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
	// Others are the other projects of this user.
	Others Others
	// Argv resolves the references of a command and splits it into the
	// arguments to execute.
	Argv func(declare.Command) ([]string, error)
	// Expand resolves the references of a text.
	Expand func(text string) (Fact, error)
}

// Borrower is the settings of a service that another project of the same user declares and starts.
type Borrower interface {
	// Borrowed returns the folder of that project, as it is written, and the name of the service there.
	Borrowed() (project, service string)
}

// Others reaches services of other projects of this user, by their folders.
type Others interface {
	// Facts returns the facts of a service.
	Facts(dir, service string) (map[string]Fact, error)
	// Start starts a service with what it needs, and returns when it is ready. Report is told how
	// far that is.
	Start(ctx context.Context, dir, service string, report func(step string)) error
	// State says how a service is; the error, that it isn't ready.
	State(ctx context.Context, dir, service string) (string, error)
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

// UserPassword returns the password of a declared user: the declared one, or one that was made up.
func (in *Instance) UserPassword(name string) (string, error) {
	if s, ok := in.Service.Settings.(interface{ UserPasswords() map[string]string }); ok {
		if p := s.UserPasswords()[name]; p != "" {
			return p, nil
		}
	}
	return in.Secret("user." + name)
}

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
	cmd.Env = append(in.BasicEnv(), proc.MarkVariable+"="+proc.Mark(cmp.Or(in.Home, in.Root), in.Service.Name))
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
