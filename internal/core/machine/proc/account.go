package proc

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// Account is an unprivileged user that runs servers which refuse root.
type Account struct {
	Name     string
	UID, GID int
}

// OwnAll gives a file, or a folder with all that is in it, to the account.
func (a *Account) OwnAll(path string) error {
	return filepath.WalkDir(path, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, a.UID, a.GID)
	})
}

// FindAccount returns the first of the named users that exists, or nobody.
func FindAccount(names ...string) (*Account, error) {
	for _, name := range append(names, "nobody") {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.Atoi(u.Uid)
		gid, err2 := strconv.Atoi(u.Gid)
		if err1 == nil && err2 == nil && uid != 0 {
			return &Account{Name: name, UID: uid, GID: gid}, nil
		}
	}
	return nil, fmt.Errorf("there is no unprivileged user to run as; tried %v and nobody", names)
}

// Own gives a file or folder to the account; a nil account changes nothing.
func (a *Account) Own(path string) error {
	if a == nil {
		return nil
	}
	return os.Lchown(path, a.UID, a.GID)
}

func (a *Account) credential() *syscall.Credential {
	return &syscall.Credential{Uid: uint32(a.UID), Gid: uint32(a.GID)}
}

// Attributes returns the system attributes that run a command as the account; a
// nil account runs it as this user.
func (a *Account) Attributes() *syscall.SysProcAttr {
	if a == nil {
		return nil
	}
	return &syscall.SysProcAttr{Credential: a.credential()}
}
