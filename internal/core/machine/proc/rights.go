package proc

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// RightsError says why a folder can't be written, and what would mend it.
type RightsError struct {
	Dir     string // the folder that is in the way
	What    string
	Remedy  string // the command that would mend it
	Missing bool   // it isn't there
	// Ours says that this user may run the command, as Mend does.
	Ours bool
	mend func() error
}

// Mend does what the remedy says.
func (e *RightsError) Mend() error {
	if e.mend == nil || !e.Ours {
		return errors.New("this can't be mended from here: " + e.What)
	}
	return e.mend()
}

func (e *RightsError) Error() string { return e.What }

// WriteProblem says why an account, nil for this user, can't make files in a
// folder; nil if it can.
func WriteProblem(a *Account, dir string) *RightsError {
	dir = filepath.Clean(dir)
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &RightsError{Dir: dir, Missing: true, Ours: true, What: fmt.Sprintf("the folder %s doesn't exist", dir), Remedy: "mkdir -p " + quote(dir),
			mend: func() error {
				if err := os.MkdirAll(dir, 0o755); err != nil {
					return err
				}
				return a.Own(dir)
			}}
	case err != nil:
		return &RightsError{Dir: dir, What: fmt.Sprintf("the folder %s can't be reached: %v", dir, err)}
	case !info.IsDir():
		return &RightsError{Dir: dir, What: dir + " is a file, not a folder", Remedy: "move it away"}
	}
	if a == nil {
		err := unix.Access(dir, unix.W_OK|unix.X_OK)
		switch {
		case err == nil:
			return nil
		case errors.Is(err, unix.EROFS):
			return &RightsError{Dir: dir, What: fmt.Sprintf("the folder %s is on a file system that is read-only", dir)}
		}
		me, _ := user.Current()
		a = &Account{UID: os.Getuid(), GID: os.Getgid()}
		if me != nil {
			a.Name = me.Username
		}
	}
	change := func(at string, st *folder, bits fs.FileMode) func() error {
		return func() error { return os.Chmod(at, st.mode|bits) }
	}
	// Every folder above must let it pass.
	for _, above := range parentsOf(dir) {
		st := stat(above)
		if st == nil || st.allows(a, 0o1) {
			continue
		}
		return &RightsError{Dir: above, Ours: st.uid == os.Getuid() || os.Getuid() == 0,
			What:   fmt.Sprintf("%s can't get to %s: %s, of %s with mode %04o, doesn't let it pass", a.Name, dir, above, st.owner(), st.mode),
			Remedy: "chmod o+x " + quote(above), mend: change(above, st, 0o001)}
	}
	st := stat(dir)
	if st == nil || st.allows(a, 0o3) {
		return nil
	}
	e := &RightsError{Dir: dir, Ours: st.uid == os.Getuid() || os.Getuid() == 0,
		What: fmt.Sprintf("the folder %s can't be written by %s: it is of %s with mode %04o", dir, a.Name, st.owner(), st.mode)}
	switch {
	case st.uid == a.UID:
		e.Remedy, e.mend = "chmod u+wx "+quote(dir), change(dir, st, 0o300)
	case os.Getuid() == 0:
		e.Remedy = fmt.Sprintf("chown %s %s", quote(a.Name), quote(dir))
		e.mend = func() error { return os.Lchown(dir, a.UID, st.gid) }
	default:
		e.Remedy = fmt.Sprintf("sudo chown %s %s", quote(a.Name), quote(dir))
	}
	return e
}

// parentsOf lists the folders above one, the highest first.
func parentsOf(dir string) []string {
	var out []string
	for at := filepath.Dir(dir); ; at = filepath.Dir(at) {
		out = append(out, at)
		if at == filepath.Dir(at) {
			break
		}
	}
	slices.Reverse(out)
	return out
}

// folder is who has a folder, and what its mode allows.
type folder struct {
	uid, gid int
	mode     fs.FileMode
}

func stat(dir string) *folder {
	info, err := os.Stat(dir)
	if err != nil {
		return nil
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	return &folder{int(st.Uid), int(st.Gid), info.Mode().Perm()}
}

// allows reports whether the mode has the bits for the account; the group is
// the account's main one, as services run without others.
func (f *folder) allows(a *Account, bits fs.FileMode) bool {
	switch {
	case a.UID == 0:
		return true
	case f.uid == a.UID:
		return f.mode>>6&bits == bits
	case f.gid == a.GID || a.UID == os.Getuid() && inGroup(f.gid):
		return f.mode>>3&bits == bits
	}
	return f.mode&bits == bits
}

// inGroup reports whether this process has a group.
func inGroup(gid int) bool {
	groups, _ := os.Getgroups()
	return slices.Contains(groups, gid)
}

func (f *folder) owner() string {
	name := strconv.Itoa(f.uid)
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	return name
}

// quote makes a text one word of a shell's command line.
func quote(text string) string {
	if text != "" && strings.Trim(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./") == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
