package webserver

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/webroot"
)

// Explain says why a server with this root answered a request for an address with a status:
// that the file is under another root, has another name, or can't be read. It returns "" if
// the files tell nothing. Address is the path of a request with its query.
func (r Root) Explain(address string, status int) string {
	if r.Dir == "" || status != http.StatusNotFound && status != http.StatusForbidden {
		return ""
	}
	u, err := url.ParseRequestURI(address)
	if err != nil {
		return ""
	}
	name := strings.TrimPrefix(path.Clean("/"+u.Path), "/")
	if webroot.Hidden(name) {
		return "files and folders that begin with a dot, and declarations, are never served"
	}
	file := filepath.Join(r.Dir, filepath.FromSlash(name))
	info, err := os.Stat(file)
	switch {
	case err == nil && info.IsDir():
		if r.has(file) || status == http.StatusNotFound && r.Other {
			return ""
		}
		return fmt.Sprintf("%s is a folder without %s", r.written(file), strings.Join(r.Indexes, " or "))
	case err == nil:
		return r.closed(file)
	case !errors.Is(err, fs.ErrNotExist):
		return ""
	}
	written := r.written(r.Dir)
	if other := otherCase(r.Dir, name); other != "" {
		return fmt.Sprintf("%s has %s: large and small letters are different there", written, other)
	}
	for dir := range r.others() {
		if isFile(filepath.Join(dir, filepath.FromSlash(name))) {
			return fmt.Sprintf("there is no %s in its web root %s, and there is one in %s: root = %q would serve it", name, written, r.written(dir), r.written(dir))
		}
	}
	// The address has a folder too many, or too few.
	if first, rest, ok := strings.Cut(name, "/"); ok && isFile(filepath.Join(r.Dir, filepath.FromSlash(rest))) {
		return fmt.Sprintf("its web root %s has %s, without %s: the address of that file is /%s", written, rest, first, rest)
	}
	if name != "" && filepath.Base(r.Dir) == strings.Split(name, "/")[0] && isFile(filepath.Join(filepath.Dir(r.Dir), filepath.FromSlash(name))) {
		return fmt.Sprintf("the web root is %s itself: the address of that file is %s", written, strings.TrimPrefix(name, filepath.Base(r.Dir)))
	}
	return ""
}

// closed says that a file can't be read by the server, which may be another user's.
func (r Root) closed(file string) string {
	for at := file; ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err != nil {
			return ""
		}
		right, of := fs.FileMode(0o004), "r"
		if info.IsDir() {
			right, of = 0o001, "x"
		}
		// Servers that the administrator starts work as a user of their own.
		own := os.Getuid() != 0 && info.Mode().Perm()&(right<<6) != 0
		if info.Mode().Perm()&right == 0 && !own {
			return fmt.Sprintf("%s is there, and the server may not read it: %s has the rights %s; allow it with: chmod a+%s %s", r.written(file), r.written(at), info.Mode().Perm(), of, at)
		}
		if at == r.Project || at == filepath.Dir(at) {
			return ""
		}
	}
}

// others goes through the folders that may have been meant as the root.
func (r Root) others() func(func(string) bool) {
	return func(yield func(string) bool) {
		for _, parent := range []string{r.Dir, r.Project, filepath.Dir(r.Dir)} {
			if rel, err := filepath.Rel(r.Project, parent); err != nil || !filepath.IsLocal(rel) {
				continue
			}
			dirs := []string{}
			for _, name := range inside {
				dirs = append(dirs, filepath.Join(parent, name))
			}
			if parent == filepath.Dir(r.Dir) && parent != r.Project {
				dirs = append(dirs, parent)
			}
			for _, dir := range dirs {
				if dir != r.Dir && !yield(dir) {
					return
				}
			}
		}
	}
}

// otherCase returns a file whose name differs from the one asked for in its letters' case only.
func otherCase(dir, name string) string {
	var found []string
	for part := range strings.SplitSeq(name, "/") {
		entries, err := os.ReadDir(filepath.Join(append([]string{dir}, found...)...))
		if err != nil {
			return ""
		}
		i := slices.IndexFunc(entries, func(e os.DirEntry) bool { return e.Name() == part })
		if i < 0 {
			i = slices.IndexFunc(entries, func(e os.DirEntry) bool { return strings.EqualFold(e.Name(), part) })
		}
		if i < 0 {
			return ""
		}
		found = append(found, entries[i].Name())
	}
	if other := path.Join(found...); isFile(filepath.Join(dir, filepath.FromSlash(other))) {
		return other
	}
	return ""
}

// Explain says why a request was answered as it was.
func (Server) Explain(in *kind.Instance, address string, status int) string {
	if r, ok := root(in); ok {
		return r.Explain(address, status)
	}
	return ""
}
