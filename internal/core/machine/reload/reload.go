// Package reload watches a project's files and says which services have to be
// restarted because files of theirs have changed.
package reload

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"
)

// Set is the files that matter to a service.
type Set struct {
	Service string
	// Patterns are matched against paths from the project's folder; those that
	// begin with ! take out what others take in.
	Patterns []string
	// Except are folders that don't matter: what the service itself writes.
	Except []string
}

// Change is what has changed for a service.
type Change struct {
	Service string
	Files   []string // the first few, from the project's folder
	Count   int      // how many in all
}

// quiet is how long nothing must have changed before a change is told: all
// that an editor, a build or a change of branch does is one change.
const quiet = 200 * time.Millisecond

// named is how many files a change names.
const named = 3

// ignored are folders that hold what tools make and fetch.
var ignored = []string{".git", ".neighbour", "node_modules", "vendor", "__pycache__", ".venv"}

// Where the system doesn't tell of changes, the files are looked at this often,
// and this often it is asked again.
const (
	pollEvery  = 2 * time.Second
	retryEvery = 30 * time.Second
)

// Watcher watches the files of a project's services. Where the system has no
// more watches it polls them, until it has.
type Watcher struct {
	root    string
	sets    []Set
	bases   []string                          // the folders that the patterns begin with
	open    func() (*fsnotify.Watcher, error) // fsnotify.NewWatcher, but in tests
	watcher *fsnotify.Watcher                 // nil while the files are polled
	failed  error                             // why they are
	stamps  map[string]stamp                  // by file, while they are
	pending map[string]map[string]bool        // by service, the files
	told    func(Change)
	polling func(why error)
	// pollEvery and retryEvery, but in tests.
	pollEvery, retryEvery time.Duration
}

// stamp is what changes of a file when it is written.
type stamp struct {
	size     int64
	modified time.Time
	inode    uint64
}

// New begins to watch the sets of files in a project's folder. Run tells the
// changes. Polling is called with the reason when the files are polled instead
// of being watched, and with nil once they are watched again.
func New(root string, sets []Set, told func(Change), polling func(why error)) *Watcher {
	w := newWatcher(root, sets, told, polling)
	w.begin()
	return w
}

func newWatcher(root string, sets []Set, told func(Change), polling func(why error)) *Watcher {
	w := &Watcher{root: root, sets: sets, open: fsnotify.NewWatcher, pending: map[string]map[string]bool{}, told: told, polling: polling, pollEvery: pollEvery, retryEvery: retryEvery}
	for _, s := range sets {
		for _, p := range s.Patterns {
			if strings.HasPrefix(p, "!") {
				continue
			}
			base, _ := doublestar.SplitPattern(filepath.ToSlash(p))
			w.bases = append(w.bases, filepath.FromSlash(base))
		}
	}
	slices.Sort(w.bases)
	w.bases = slices.Compact(w.bases)
	return w
}

// begin watches, or polls where that can't be.
func (w *Watcher) begin() {
	w.failed = nil
	watcher, err := w.open()
	if err != nil {
		w.poll(err)
		return
	}
	w.watcher = watcher
	for _, base := range w.bases {
		w.add(base, false)
	}
}

// poll goes over from watching to polling, for all files: some of them alone
// would be no use to whoever wonders why nothing happens.
func (w *Watcher) poll(why error) {
	if w.watcher != nil {
		_ = w.watcher.Close()
		w.watcher = nil
	}
	w.failed = explain(why)
	if w.stamps == nil {
		w.stamps = w.look()
		w.polling(w.failed)
	}
}

// retry goes back to watching if that can be.
func (w *Watcher) retry() {
	if w.begin(); w.failed != nil {
		return
	}
	w.compare() // what changed before the watches were there
	w.stamps = nil
	w.polling(nil)
}

// explain says why files aren't watched, and what to do where the system's
// limits are reached.
func explain(err error) error {
	switch {
	case errors.Is(err, syscall.EMFILE):
		return fmt.Errorf("the system's limit of inotify instances, or of open files, is reached (%w); raise it with: sysctl fs.inotify.max_user_instances=512", err)
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("the system's limit of inotify watches is reached (%w); raise it with: sysctl fs.inotify.max_user_watches=524288", err)
	}
	return err
}

// look notes the files that matter, as they are now.
func (w *Watcher) look() map[string]stamp {
	out := map[string]stamp{}
	for _, base := range w.bases {
		_ = filepath.WalkDir(filepath.Join(w.root, base), func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil // gone meanwhile, or not ours to read
			}
			if d.IsDir() {
				if slices.Contains(ignored, d.Name()) {
					return filepath.SkipDir
				}
				return nil
			}
			rel, _ := filepath.Rel(w.root, path)
			if !slices.ContainsFunc(w.sets, func(s Set) bool { return s.matters(rel) }) {
				return nil
			}
			if info, err := d.Info(); err == nil {
				s := stamp{size: info.Size(), modified: info.ModTime()}
				if st, ok := info.Sys().(*syscall.Stat_t); ok {
					s.inode = st.Ino
				}
				out[rel] = s
			}
			return nil
		})
	}
	return out
}

// compare notes what has changed since the files were looked at, and reports
// whether anything has.
func (w *Watcher) compare() bool {
	now, any := w.look(), false
	for file, s := range now {
		if before, ok := w.stamps[file]; !ok || before != s {
			w.changed(file)
			any = true
		}
	}
	for file := range w.stamps {
		if _, ok := now[file]; !ok {
			w.changed(file)
			any = true
		}
	}
	w.stamps = now
	return any
}

// add watches a folder and those in it. What is in a new one counts as
// changed. A folder that isn't there yet is awaited in the one above.
func (w *Watcher) add(dir string, isNew bool) {
	for dir != "." {
		if _, err := os.Stat(filepath.Join(w.root, dir)); !errors.Is(err, fs.ErrNotExist) {
			break
		}
		dir = filepath.Dir(dir)
		isNew = false
		if !w.watch(dir) {
			return
		}
		if dir == "." {
			return
		}
	}
	_ = filepath.WalkDir(filepath.Join(w.root, dir), func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // gone meanwhile, or not ours to read
		}
		rel, _ := filepath.Rel(w.root, path)
		if !d.IsDir() {
			if isNew {
				w.changed(rel)
			}
			return nil
		}
		if slices.Contains(ignored, d.Name()) {
			return filepath.SkipDir
		}
		if !w.watch(rel) {
			return filepath.SkipAll
		}
		return nil
	})
}

// watch watches one folder, and reports whether folders are watched still.
func (w *Watcher) watch(dir string) bool {
	if w.watcher == nil {
		return false
	}
	if err := w.watcher.Add(filepath.Join(w.root, dir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		w.poll(err)
		return false
	}
	return true
}

// Run tells changes until the context ends.
func (w *Watcher) Run(ctx context.Context) {
	defer func() {
		if w.watcher != nil {
			_ = w.watcher.Close()
		}
	}()
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	tries := time.Now()
	for {
		var events chan fsnotify.Event
		var errs chan error
		var polls <-chan time.Time
		if w.watcher != nil {
			events, errs, tries = w.watcher.Events, w.watcher.Errors, time.Now()
		} else {
			polls = time.After(w.pollEvery)
		}
		select {
		case <-ctx.Done():
			return
		case e, ok := <-events:
			if !ok {
				return
			}
			w.event(e)
		case err, ok := <-errs:
			if !ok {
				return
			}
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				w.lookAgain()
			} else {
				w.poll(err)
			}
		case <-polls:
			changed := w.compare()
			if time.Since(tries) >= w.retryEvery {
				tries = time.Now()
				w.retry()
			}
			if !changed {
				continue
			}
		case <-timer.C:
			w.tell()
			continue
		}
		if len(w.pending) > 0 {
			timer.Reset(quiet)
		}
	}
}

func (w *Watcher) event(e fsnotify.Event) {
	if e.Op == fsnotify.Chmod {
		return
	}
	rel, err := filepath.Rel(w.root, e.Name)
	if err != nil {
		return
	}
	if e.Has(fsnotify.Create) {
		if info, err := os.Lstat(e.Name); err == nil && info.IsDir() {
			if w.below(rel) && !slices.Contains(ignored, info.Name()) {
				w.add(rel, true)
			}
			return
		}
	}
	w.changed(rel)
}

// below reports whether a folder is in one that patterns begin with, or above one.
func (w *Watcher) below(dir string) bool {
	return slices.ContainsFunc(w.bases, func(base string) bool {
		return base == "." || dir == base || strings.HasPrefix(dir, base+"/") || strings.HasPrefix(base, dir+"/")
	})
}

// changed notes a changed file for those to whom it matters.
func (w *Watcher) changed(file string) {
	for _, s := range w.sets {
		if s.matters(file) {
			if w.pending[s.Service] == nil {
				w.pending[s.Service] = map[string]bool{}
			}
			w.pending[s.Service][file] = true
		}
	}
}

// lookAgain takes events that were lost for changes of everything.
func (w *Watcher) lookAgain() {
	for _, base := range w.bases {
		w.add(base, true)
	}
}

func (w *Watcher) tell() {
	for _, s := range w.sets {
		files := w.pending[s.Service]
		if len(files) == 0 {
			continue
		}
		c := Change{Service: s.Service, Count: len(files)}
		for f := range files {
			c.Files = append(c.Files, f)
		}
		slices.Sort(c.Files)
		c.Files = c.Files[:min(len(c.Files), named)]
		w.told(c)
	}
	clear(w.pending)
}

// matters reports whether a file is of the set.
func (s Set) matters(file string) bool {
	name := filepath.Base(file)
	// What editors write beside a file while it is edited.
	if strings.HasSuffix(name, "~") || strings.HasSuffix(name, ".swp") || strings.HasSuffix(name, ".swx") || strings.HasPrefix(name, ".#") || name == "4913" {
		return false
	}
	for part := range strings.SplitSeq(filepath.ToSlash(filepath.Dir(file)), "/") {
		if slices.Contains(ignored, part) {
			return false
		}
	}
	for _, dir := range s.Except {
		if rel, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(rel) {
			return false
		}
	}
	in := false
	for _, p := range s.Patterns {
		pattern, out := strings.CutPrefix(p, "!")
		if ok, _ := doublestar.Match(pattern, filepath.ToSlash(file)); ok {
			if out {
				return false
			}
			in = true
		}
	}
	return in
}

// InWords says what has changed: "api/server.js and 3 more files".
func (c Change) InWords() string {
	switch more := c.Count - 1; {
	case more <= 0:
		return c.Files[0] + " has changed"
	case more == 1:
		return c.Files[0] + " and 1 more file have changed"
	default:
		return fmt.Sprintf("%s and %d more files have changed", c.Files[0], more)
	}
}
