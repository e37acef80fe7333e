package project

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"neighbour/internal/core/machine/atomicfile"
)

// StateDir is the name of the folder beside the declaration by which Neighbour finds what it keeps
// for the project, or in which it keeps it.
const StateDir = ".neighbour"

// socketLimit is how long a Unix socket's path may be: 104 bytes on macOS,
// 108 on Linux, with the closing zero (sockaddr_un, unix(7)).
const socketLimit = 103

// EnsureDirs makes the project's own folders and enters it in the list of
// this user's projects.
func (p *Project) EnsureDirs() error {
	if err := p.ensureState(); err != nil {
		return err
	}
	for _, dir := range []string{p.LogDir(), filepath.Join(p.state, "data"), filepath.Join(p.state, "run")} {
		if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("the project's folder for data can't be made: %w", err)
		}
	}
	if err := p.ensurePrivate(p.runDir()); err != nil {
		return err
	}
	if err := p.noteMoved(); err != nil {
		return err
	}
	return enlist(p.Dir)
}

// LogDir returns the folder of the log files.
func (p *Project) LogDir() string { return filepath.Join(p.state, "logs") }

// LogFile returns where a service's output goes.
func (p *Project) LogFile(service string) string { return filepath.Join(p.LogDir(), service+".log") }

// KeeperLog returns where the keeper writes what it does.
func (p *Project) KeeperLog() string { return filepath.Join(p.LogDir(), "keeper.jsonl") }

// StateFile returns where the keeper keeps what it needs to find the services again.
func (p *Project) StateFile() string { return filepath.Join(p.state, "run", "state.json") }

// ServiceLock returns the file that a service's processes hold as long as they run.
func (p *Project) ServiceLock(service string) string {
	return filepath.Join(p.state, "run", "services", service+".lock")
}

// LockedServices lists the services that have had a lock, those that aren't declared any
// more among them.
func (p *Project) LockedServices() []string {
	entries, _ := os.ReadDir(filepath.Dir(p.ServiceLock("")))
	var out []string
	for _, e := range entries {
		if name, is := strings.CutSuffix(e.Name(), ".lock"); is {
			out = append(out, name)
		}
	}
	return out
}

// LockFile returns the file that the project's keeper holds as long as it runs.
func (p *Project) LockFile() string { return filepath.Join(p.state, "run", "keeper.lock") }

// HistoryFile returns where the keeper keeps what services did before.
func (p *Project) HistoryFile() string { return filepath.Join(p.state, "history.db") }

// AskedFile returns the file of the questions that services were asked.
func (p *Project) AskedFile() string { return filepath.Join(p.state, "asked.json") }

// EventsFile returns where events are kept until triggers have sent them.
func (p *Project) EventsFile() string { return filepath.Join(p.state, "events.db") }

// ClockFile returns where it is kept how far the clock of schedules is ahead.
func (p *Project) ClockFile() string { return filepath.Join(p.state, "run", "clock.json") }

// Socket returns the path of the keeper's socket.
func (p *Project) Socket() string { return filepath.Join(p.runDir(), "keeper.sock") }

// runDir returns the folder for sockets: in the project if its path is short
// enough, else a short one of this user's.
func (p *Project) runDir() string {
	dir := filepath.Join(p.state, "run")
	// The longest socket is a service's: its name and the server's own name.
	if len(dir)+len("/keeper.sock") <= socketLimit {
		return dir
	}
	return p.shortRunDir("keeper")
}

// shortRunDir returns a folder with a short path for one thing's sockets.
func (p *Project) shortRunDir(name string) string {
	sum := sha256.Sum256([]byte(p.Home() + "\x00" + name))
	return filepath.Join(p.shortBase(), hex.EncodeToString(sum[:6]))
}

// shortBase is the user's folder for sockets that the project has: the one that was noted when it
// was first needed, as long as it is there, since XDG_RUNTIME_DIR is not the same everywhere (cron,
// su, ssh).
func (p *Project) shortBase() string {
	b, err := readSmall(p.socketsFile())
	if dir := strings.TrimSpace(string(b)); err == nil && filepath.IsAbs(dir) && isOurs(dir) {
		return dir
	}
	return shortBase()
}

func (p *Project) socketsFile() string { return filepath.Join(p.state, "run", "sockets") }

// shortBase returns this user's folder for sockets whose own place has too long a
// path.
func shortBase() string {
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" && len(dir) < 60 {
		return filepath.Join(dir, "neighbour")
	}
	// A stranger may have taken the name, which everybody knows.
	usual := fmt.Sprintf("/tmp/neighbour-%d", os.Getuid())
	for n := range mostBases {
		dir := usual
		if n > 0 {
			dir = fmt.Sprintf("%s-%d", usual, n)
		}
		if _, err := os.Lstat(dir); err != nil || isOurs(dir) {
			return dir
		}
	}
	return usual
}

// mostBases is how many names of a folder for sockets are tried.
const mostBases = 100

// isOurs reports whether a path is a folder of this user's that nobody else can
// enter.
func isOurs(dir string) bool {
	info, err := os.Lstat(dir)
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return info.IsDir() && info.Mode().Perm()&0o077 == 0 && ok && int(st.Uid) == os.Getuid()
}

// ensurePrivate makes a folder for sockets of the project, and notes where those are that are not
// in its state.
func (p *Project) ensurePrivate(dir string) error {
	base := p.shortBase()
	if err := ensurePrivate(dir, base); err != nil || filepath.Dir(dir) != base {
		return err
	}
	if b, err := readSmall(p.socketsFile()); err == nil && strings.TrimSpace(string(b)) == base {
		return nil
	}
	return atomicfile.Write(p.socketsFile(), []byte(base+"\n"), 0o600)
}

// ensurePrivate makes a folder for sockets. One that is directly below base has a name that everybody
// knows, so base must really be ours.
func ensurePrivate(dir, base string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if filepath.Dir(dir) == base && !isOurs(base) {
		return fmt.Errorf("%s must be a folder of yours that nobody else can enter; move it away, or give the project a shorter path", base)
	}
	return nil
}
