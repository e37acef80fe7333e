package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/port"
)

// OthersError says that somebody else may change a declaration, whose commands
// would be executed as this user.
type OthersError struct {
	Path string // what may be changed
	Why  string // "belongs to ines"
	Dir  string // the project's folder
}

func (e *OthersError) Error() string {
	return fmt.Sprintf("%s %s, and what %s says is executed as you; if you vouch for that: neighbour -C %s vouch", e.Path, e.Why, declare.FileName, e.Dir)
}

// checkOwners makes sure that nobody but this user and root can change the
// declaration at path: it, and every folder on the way to it, are theirs and not
// writable by others. A sticky folder, such as /tmp, is fine on the way, and so
// is a group that has nobody else in it. What the user has vouched for is not
// looked at.
func checkOwners(path string) error {
	dir := filepath.Dir(path)
	if vouched(dir) {
		return nil
	}
	for _, at := range append([]string{path, filepath.Join(dir, declare.LocalFileName)}, upward(dir)...) {
		why, err := othersMayChange(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if why != "" {
			return &OthersError{Path: at, Why: why, Dir: dir}
		}
	}
	return nil
}

// upward lists a folder and all above it.
func upward(dir string) []string {
	out := []string{dir}
	for ; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		out = append(out, filepath.Dir(dir))
	}
	return out
}

// othersMayChange says why others than this user and root may change a file,
// or what is in a folder; "" if they may not.
func othersMayChange(path string) (why string, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", nil
	}
	mode := info.Mode()
	switch {
	case int(st.Uid) != os.Getuid() && st.Uid != 0 && !rootsOutside(path, st.Uid):
		return "belongs to " + port.UserName(int(st.Uid)), nil
	case mode.IsDir() && mode&fs.ModeSticky != 0:
		return "", nil
	case mode.Perm()&0o002 != 0:
		return "can be written by everybody", nil
	case mode.Perm()&0o020 != 0 && st.Gid != 0 && !onlyThisUser(st.Gid):
		return "can be written by the group " + groupName(st.Gid), nil
	}
	return "", nil
}

// rootsOutside reports whether a folder is root's outside the namespace of
// users that this process is in, where such owners are shown as nobody
// (user_namespaces(7)). Only root can have made the folders at the top.
func rootsOutside(path string, uid uint32) bool {
	if filepath.Dir(filepath.Dir(path)) != "/" {
		return false
	}
	overflow, err := os.ReadFile("/proc/sys/kernel/overflowuid")
	if err != nil || strings.TrimSpace(string(overflow)) != strconv.Itoa(int(uid)) {
		return false
	}
	ids, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && strings.Join(strings.Fields(string(ids)), " ") != "0 0 4294967295"
}

// onlyThisUser reports whether a group is this user's own, as many systems make
// one for each user.
func onlyThisUser(gid uint32) bool {
	me, err := user.Current()
	if err != nil {
		return false
	}
	return me.Gid == strconv.Itoa(int(gid)) && groupName(gid) == me.Username
}

func groupName(gid uint32) string {
	if g, err := user.LookupGroupId(strconv.Itoa(int(gid))); err == nil {
		return g.Name
	}
	return strconv.Itoa(int(gid))
}

// vouchPath is where it is remembered that the user vouches for a project's
// folder.
func vouchPath(dir string) string {
	return filepath.Join(listDir(), "..", "vouched", filepath.Base(listPath(dir)))
}

func vouched(dir string) bool {
	b, err := os.ReadFile(vouchPath(dir))
	return listDir() != "" && err == nil && string(b) == dir
}

// Vouch remembers that this user vouches for the project in dir although others
// may change it, and for its folder for state although it was not made here. A copy of a project
// becomes one of its own, with a copy of the data, or with none. It returns the project's folder.
func Vouch(dir string, empty bool) (string, error) {
	path, _, err := locate(dir)
	if err != nil {
		return "", err
	}
	if listDir() == "" {
		return "", errors.New("you have no home where that could be remembered")
	}
	dir = filepath.Dir(path)
	if err := os.MkdirAll(filepath.Dir(vouchPath(dir)), 0o700); err != nil {
		return "", err
	}
	var copied *CopiedError
	switch err := At(dir).takeState(); {
	case errors.As(err, &copied):
		p, err := open(path, "", "")
		if err != nil {
			return "", err
		}
		if err := p.separate(empty); err != nil {
			return "", err
		}
	case err != nil:
		return "", err
	}
	return dir, atomicfile.Write(vouchPath(dir), []byte(dir), 0o600)
}
