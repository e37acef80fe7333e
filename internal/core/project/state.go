package project

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/input"
	"neighbour/internal/core/machine/killpoint"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/tree"
)

// idFile is the file in a project's folder for state that tells which of this
// user's projects it is. Nobody else can know what it says.
const idFile = "id"

// ignoreFile keeps git away from a project's folder for state, and placeFile tells in an anchor
// where the state is.
const (
	ignoreFile = ".gitignore"
	placeFile  = "place"
)

// StrangeStateError says that the folder for state was not made by this user's
// Neighbour, so that nothing in it is believed or written to.
type StrangeStateError struct {
	Path, Why string
	Theirs    bool // it is another user's, so that this one can't take it on
}

func (e *StrangeStateError) Error() string {
	if e.Theirs {
		return fmt.Sprintf("%s %s, who runs this project here; work in a copy of it that is yours", e.Path, e.Why)
	}
	return fmt.Sprintf("%s %s, so nothing in it is used; look at what it is, and move it away, or, if it is yours: neighbour -C %s vouch", e.Path, e.Why, filepath.Dir(e.Path))
}

// checkState makes sure that the folder for state, if there is one, was made
// by this user's Neighbour: it is a folder and no link, this user's, known by
// its id, and not git's.
func (p *Project) checkState() error {
	if err := p.checkStateFiles(); err != nil {
		return err
	}
	if _, err := os.Lstat(p.anchor()); err == nil && gitTracks(p.Dir, StateDir) {
		return &StrangeStateError{Path: p.anchor(), Why: "is tracked by git"}
	}
	return nil
}

// checkStateFiles is checkState but for git.
func (p *Project) checkStateFiles() error {
	strange := func(why string) error { return &StrangeStateError{Path: p.anchor(), Why: why} }
	info, err := os.Lstat(p.anchor())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		return strange("is a link")
	case !info.IsDir():
		return strange("is no folder")
	case ok && int(st.Uid) != os.Getuid():
		return &StrangeStateError{Path: p.anchor(), Why: "belongs to " + port.UserName(int(st.Uid)), Theirs: true}
	case info.Mode().Perm()&0o022 != 0:
		return strange("can be written by others")
	}
	for _, name := range []string{"logs", "run", "data"} {
		if info, err := os.Lstat(filepath.Join(p.base, name)); err == nil && !info.IsDir() {
			return strange("holds " + name + ", which is no folder of ours")
		}
	}
	if !p.knowsState() {
		return strange("was not made by Neighbour for this user")
	}
	if from := p.copiedFrom(); from != "" {
		return &CopiedError{p.Dir, from}
	}
	return nil
}

// knowsState reports whether the folder for state is one that this user's
// Neighbour has made. A user without a folder for that can't tell. An anchor with an id
// alone has nothing that could be believed.
func (p *Project) knowsState() bool {
	if !p.within() {
		return true
	}
	list := listDir()
	if list == "" {
		return true
	}
	if id, err := p.id(); err == nil {
		_, err = os.Stat(recordPath(id))
		return err == nil
	}
	// Where no record could be made, none can be asked for.
	if unix.Access(nearest(list), unix.W_OK) != nil {
		return true
	}
	// Those of earlier versions have no id, but their projects are listed.
	return enlisted(p.Dir)
}

// ensureState makes the folder for state, unless there is one. It appears with
// its id in it, or not at all.
func (p *Project) ensureState() error {
	if err := p.checkState(); err != nil {
		return err
	}
	if id, err := readID(p.base); err == nil && hasID(p.Dir, id) || err == nil && p.within() {
		return p.ensureCopy()
	}
	if p.within() {
		return p.makeWithin()
	}
	return p.makeOutside()
}

// makeWithin makes the folder for state in the project's tree.
func (p *Project) makeWithin() error {
	if _, err := os.Lstat(p.base); err == nil {
		return p.ensureCopy() // of an earlier version, which gave no id
	}
	id := rand.Text()
	if err := saveRecord(id, record{Dir: p.Dir}); err != nil && listDir() != "" {
		// A home that can't be written is as good as none.
		id = ""
	}
	made, err := p.makeFolder(p.base, map[string]string{idFile: id, ignoreFile: "*\n"}, "logs")
	if !made {
		_ = os.Remove(recordPath(id))
	}
	if err != nil || made {
		return err
	}
	return p.checkState() // another process was quicker
}

// makeOutside makes the folder for state, and the anchor by which it is found. What was
// interrupted goes on where it was.
func (p *Project) makeOutside() error {
	id, err := readID(p.base)
	if errors.Is(err, fs.ErrNotExist) {
		if id = recordOf(p.Dir).id; id == "" {
			id = rand.Text()
		}
		if err := saveRecord(id, record{Dir: p.Dir, State: p.base}); err != nil {
			return fmt.Errorf("the project's folder for data can't be made: %w", err)
		}
		if err := os.MkdirAll(filepath.Dir(p.base), 0o700); err != nil {
			return fmt.Errorf("the project's folder for data can't be made: %w", err)
		}
		made, err := p.makeFolder(p.base, map[string]string{idFile: id})
		if err != nil {
			return err
		}
		if !made { // another process was quicker
			there, err := readID(p.base)
			if errors.Is(err, fs.ErrNotExist) { // or somebody has taken the id away
				there, err = id, atomicfile.Write(filepath.Join(p.base, idFile), []byte(id), 0o600)
			}
			if err != nil {
				return err
			}
			if there != id {
				_ = os.Remove(recordPath(id))
			}
			id = there
		}
	} else if err != nil {
		return err
	}
	if _, err := os.Stat(recordPath(id)); err != nil { // of a home of before
		if err := saveRecord(id, record{Dir: p.Dir, State: p.base}); err != nil {
			return err
		}
	}
	made, err := p.makeFolder(p.anchor(), map[string]string{idFile: id, placeFile: p.base + "\n", ignoreFile: "*\n"})
	if err != nil || made {
		return err
	}
	if !hasID(p.Dir, id) { // it is somebody's who has no state here
		if err := p.moorTo(id); err != nil {
			return err
		}
	}
	return p.checkState()
}

// moorTo has the anchor lead to the project's state, which has the id.
func (p *Project) moorTo(id string) error {
	if err := atomicfile.Write(filepath.Join(p.anchor(), placeFile), []byte(p.base+"\n"), 0o600); err != nil {
		return err
	}
	killpoint.Reach("own place")
	return atomicfile.Write(filepath.Join(p.anchor(), idFile), []byte(id), 0o600)
}

// makeFolder makes a folder with files and folders in it, at once: others see it whole or not at
// all. It returns false if there is one already.
func (p *Project) makeFolder(path string, files map[string]string, dirs ...string) (made bool, err error) {
	fresh, err := os.MkdirTemp(filepath.Dir(path), filepath.Base(path)+".new-")
	if err != nil {
		return false, fmt.Errorf("the project's folder for data can't be made: %w%s", err, whose(filepath.Dir(path), err))
	}
	defer tree.Remove(fresh)
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(fresh, name), []byte(text), 0o600); err != nil {
			return false, err
		}
	}
	for _, name := range dirs {
		if err := os.Mkdir(filepath.Join(fresh, name), 0o700); err != nil {
			return false, err
		}
	}
	if err := os.Chmod(fresh, 0o700); err != nil {
		return false, err
	}
	err = os.Rename(fresh, path)
	if errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY) {
		return false, nil
	}
	return err == nil, err
}

// ensureCopy makes sure that the copy which this is, if it is one, was not removed.
func (p *Project) ensureCopy() error {
	if p.Copy == "" {
		return nil
	}
	if _, err := os.Lstat(p.state); err != nil {
		return fmt.Errorf("the copy %s is no more: %w", p.Copy, err)
	}
	return nil
}

// whose tells, where something is not permitted, to whom a file belongs that
// isn't this user's.
func whose(path string, err error) string {
	info, statErr := os.Stat(path)
	if statErr != nil || !errors.Is(err, fs.ErrPermission) {
		return ""
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || int(st.Uid) == os.Getuid() {
		return "; let yourself write to the folder: chmod u+w " + wire.QuoteShell(path)
	}
	return fmt.Sprintf("; %s belongs to %s: work in a copy that is yours", path, port.UserName(int(st.Uid)))
}

// Anchorable returns why a start can't make the project's folder for what is kept of it, nil if it
// can or has.
func (p *Project) Anchorable() error {
	if _, err := os.Lstat(p.anchor()); !errors.Is(err, fs.ErrNotExist) {
		return nil // which checkState looks at
	}
	if err := unix.Access(p.Dir, unix.W_OK); err != nil {
		return fmt.Errorf("%s can't be written to, and a start makes %s in it%s", p.Dir, StateDir, whose(p.Dir, err))
	}
	return nil
}

// takeState makes the folder for state, if there is one, this user's own.
func (p *Project) takeState() error {
	err := p.checkState()
	if err == nil || p.knowsState() {
		return err // there is none, it is known, or it can't be taken
	}
	id, err := p.id()
	if err != nil {
		id = rand.Text()
		if err := atomicfile.Write(filepath.Join(p.base, idFile), []byte(id), 0o600); err != nil {
			return err
		}
	}
	if err := saveRecord(id, record{Dir: p.Dir}); err != nil {
		return err
	}
	return p.checkState()
}

// id is the project's own: by its anchor, which a copied folder has from another project, or by
// its state, where the anchor was lost.
func (p *Project) id() (string, error) {
	id, err := readID(p.anchor())
	if err != nil && !p.within() {
		return readID(p.base)
	}
	return id, err
}

// record is what this user's Neighbour remembers of a project outside it.
type record struct {
	Dir string `json:"dir"`
	// State is where the project's state is; "" for one that has it in its tree.
	State string `json:"state,omitempty"`
	// Commands are what the project executes, as its user agreed to it by
	// starting the project; nil before.
	Commands []string `json:"commands,omitempty"`

	id string // by which it was found, where none was known
}

// readRecord reads what is remembered of the project with an id.
func readRecord(id string) (record, error) {
	var r record
	b, err := input.Read(recordPath(id))
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	return r, err
}

// recordPath is where the record of a project with an id is.
func recordPath(id string) string {
	return filepath.Join(listDir(), "..", "known", filepath.Base(filepath.Clean("/"+id))+".json")
}

// nearest returns a folder, or the nearest above it that exists.
func nearest(dir string) string {
	for ; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			break
		}
	}
	return dir
}

func saveRecord(id string, r record) error {
	if listDir() == "" || id == "" {
		return nil
	}
	path := recordPath(id)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return atomicfile.Write(path, b, 0o600)
}

// readSmall reads a small file that is a file, and no link.
func readSmall(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() || info.Size() > 1<<10 {
		return nil, fmt.Errorf("%s is not what it should be", path)
	}
	return io.ReadAll(io.LimitReader(f, 1<<10))
}

// gitTracks reports whether git tracks anything below a folder of the
// project's. Git itself is asked only if its index may name it.
func gitTracks(dir, name string) bool {
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			index, err := os.ReadFile(filepath.Join(at, ".git", "index"))
			// Names may be cut where they begin as the one before.
			if err == nil && !bytes.Contains(index, []byte(name[1:]+"/")) {
				return false
			}
			out, err := git(dir, "ls-files", "--", name).Output()
			return err == nil && len(out) > 0
		}
		if at == filepath.Dir(at) {
			return false
		}
	}
}

// git prepares a command of git's that runs nothing of the repository's: no
// hook, no monitor of files, no other program.
func git(dir string, args ...string) *exec.Cmd {
	off := []string{"-C", dir, "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "core.pager=cat", "-c", "core.untrackedCache=false", "--no-optional-locks"}
	cmd := exec.Command("git", append(off, args...)...)
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_EXTERNAL_DIFF=", "GIT_PAGER=cat")
	return cmd
}

// Unignored reports whether a file of a project, which may not be there yet, is in a git repository
// that neither tracks nor ignores it.
func Unignored(dir, name string) bool {
	if git(dir, "rev-parse", "--is-inside-work-tree").Run() != nil {
		return false
	}
	var exit *exec.ExitError
	err := git(dir, "check-ignore", "--quiet", "--", name).Run()
	return errors.As(err, &exit) && exit.ExitCode() == 1 && !Tracked(filepath.Join(dir, name))
}
