package webserver

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/webroot"
)

// Root is a web root that is about to be served.
type Root struct {
	Dir     string   // absolute
	Project string   // the project's folder, which remedies are written from
	Indexes []string // the files that answer for a folder, the best first
	// Front says that the first of them answers for all that is no file.
	Front bool
	// Other says that something else answers where no file does.
	Other bool
}

// inside are the names that folders with what is to be served mostly have.
var inside = []string{"public", "web", "dist", "build", "htdocs", "www", "public_html", "site", "html", "docroot"}

func (r Root) has(dir string) bool {
	return slices.ContainsFunc(r.Indexes, func(name string) bool { return isFile(filepath.Join(dir, name)) })
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// written returns a folder as the declaration would have it.
func (r Root) written(dir string) string {
	if rel, err := filepath.Rel(r.Project, dir); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return dir
}

// Check finds a web root that isn't there, that is a parent of the one that
// is meant, or that lacks the page which everything goes to.
func (r Root) Check() error {
	if info, err := os.Stat(r.Dir); err != nil || !info.IsDir() {
		return &kind.AbsentError{Err: fmt.Errorf("its web root %s doesn't exist; create it, or correct root = %q", r.Dir, r.written(r.Dir))}
	}
	if rel, err := filepath.Rel(r.Project, r.Dir); err == nil && webroot.Hidden(filepath.ToSlash(rel)) && filepath.IsLocal(rel) && rel != "." {
		return fmt.Errorf("its web root %s is in a folder that is never served; write another root", r.Dir)
	}
	if r.has(r.Dir) {
		return nil
	}
	names := strings.Join(r.Indexes, " or ")
	for _, name := range inside {
		if child := filepath.Join(r.Dir, name); r.has(child) {
			return fmt.Errorf("its web root %s has no %s, and %s in it has: served from above, all files of the app could be fetched; write root = %q", r.Dir, names, name, r.written(child))
		}
	}
	if r.Front {
		return fmt.Errorf("its web root %s has no %s, which would answer for every address that is no file's; create it, or correct root = %q", r.Dir, names, r.written(r.Dir))
	}
	return nil
}

// unmeant are files that are served, and that nobody means to serve.
var unmeant = []string{"composer.json", "composer.lock", "package.json", "node_modules", "vendor"}

// Warn says what is probably not meant.
func (r Root) Warn() []string {
	var out []string
	if !r.Other && !r.has(r.Dir) {
		out = append(out, fmt.Sprintf("its web root %s has no %s, so its address shows no page", r.Dir, strings.Join(r.Indexes, " or ")))
	}
	var hidden, served []string
	entries, _ := os.ReadDir(r.Dir)
	for _, e := range entries {
		switch name := e.Name(); {
		case slices.Contains(secret, name) || strings.HasPrefix(name, ".env") || strings.HasPrefix(name, "neighbour") && webroot.Hidden(name):
			hidden = append(hidden, name)
		case slices.Contains(unmeant, name):
			served = append(served, name)
		}
	}
	if len(hidden) > 0 {
		out = append(out, fmt.Sprintf("its web root holds what must not be served: %s; Neighbour's own servers don't, and others will: move what is to be served into a folder of its own, such as root = %q", strings.Join(hidden, ", "), "public"))
	}
	if len(served) > 0 {
		out = append(out, fmt.Sprintf("what is in its web root can be fetched by its address, here also %s; move what is to be served into a folder of its own, such as root = %q", strings.Join(served, ", "), "public"))
	}
	return out
}

// secret are the names of what holds secrets, beside env files and
// declarations.
var secret = []string{".neighbour", ".git"}

func root(in *kind.Instance) (Root, bool) {
	s := in.Service.Settings.(*Settings)
	r := Root{Dir: rootOf(in), Project: in.Root, Indexes: []string{"index.html"}, Other: s.Proxy.Name != ""}
	if s.PHP.Name != "" {
		r.Indexes, r.Front = []string{"index.php", "index.html"}, true
	}
	return r, r.Dir != ""
}

// Warn says what is probably not meant as it is.
func (Server) Warn(in *kind.Instance) []string {
	if r, ok := root(in); ok {
		return r.Warn()
	}
	return nil
}
