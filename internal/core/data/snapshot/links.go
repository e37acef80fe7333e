package snapshot

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// LinkError says that data has a link which leads out of it: a copy would not have what is there,
// and whatever uses the copy would use that in place of a copy of it.
type LinkError struct{ Path, Target string }

func (e *LinkError) Error() string {
	return fmt.Sprintf("%s leads to %s, outside of the data, which can't be copied with it", e.Path, e.Target)
}

// checkLink makes sure that a link below a folder leads to a place in that folder, whether anything
// is there or not: by what it says, and by where the links lead that are on the way. It returns what
// the link says, or a *LinkError.
func checkLink(folder, rel string) (target string, err error) {
	link := filepath.Join(folder, rel)
	if target, err = os.Readlink(link); err != nil {
		return "", err
	}
	inside, err := filepath.Rel(folder, filepath.Join(filepath.Dir(link), target))
	if filepath.IsAbs(target) || err != nil || !filepath.IsLocal(inside) {
		return "", &LinkError{link, target}
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return "", &LinkError{link, target} // it is the data itself
	}
	defer root.Close()
	// A circle of links has no target.
	if _, err := root.Stat(rel); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ELOOP) {
		return "", &LinkError{link, target}
	}
	return target, nil
}
