// Package snapshot keeps the data of several services at one moment: it copies files, lists
// what was saved, puts it in the place of other data so that an end at any moment leaves one of
// both whole, and packs it into a file. It knows no service that runs.
package snapshot

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/tree"
)

// Format is the version of the form that snapshots are kept and exported in.
const Format = 1

// Manifest says what a snapshot is.
type Manifest struct {
	Format   int       `json:"format"`
	Name     string    `json:"name"`
	Project  string    `json:"project"`
	Made     time.Time `json:"made"`
	By       string    `json:"by,omitempty"`
	Platform string    `json:"platform"` // "linux/amd64"
	// Why says what an automatic one was made for; the next takes its place.
	Why string `json:"why,omitempty"`
	// Masked is what was struck out of it when it was exported, by service.
	Masked map[string][]string `json:"masked,omitempty"`
	// Branch is the git branch whose data it is, if it was made as that.
	Branch string `json:"branch,omitempty"`
	// HeldMS is for how long the services stood still for it, in milliseconds.
	HeldMS float64 `json:"held_ms"`
	TookMS float64 `json:"took_ms"`
	Bytes  int64   `json:"bytes"`
	// Copied is how many of the bytes are not shared with another snapshot or with the data.
	Copied   int64     `json:"copied"`
	Services []Service `json:"services"`
	// Errands are those that had run on the data before a start, and for what.
	Errands map[string]json.RawMessage `json:"errands,omitempty"`
	// Boot is when the machine was started that made it, as long as it may not be on its disk.
	Boot string `json:"boot,omitempty"`
}

// Service is what a snapshot holds of a service.
type Service struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"`
	Data    string `json:"data,omitempty"` // the identity of the data
	// Began is when the data was begun.
	Began time.Time `json:"began,omitzero"`
	Bytes int64     `json:"bytes"`
	Files int       `json:"files"`
	// How says how it came to stand still: "held", "locked", "stopped" or "did not run".
	How string `json:"how"`
	// Parts are the names of what the data is kept in, in the order in which the kind has them;
	// "" for what was not there.
	Parts []string `json:"parts"`
	// Secrets are the made-up passwords that the data was made with.
	Secrets map[string]string `json:"secrets,omitempty"`
}

// Service returns what it holds of a service, nil if that is nothing.
func (m *Manifest) Service(name string) *Service {
	if i := slices.IndexFunc(m.Services, func(s Service) bool { return s.Name == name }); i >= 0 {
		return &m.Services[i]
	}
	return nil
}

// Title names it in a sentence.
func (m *Manifest) Title() string {
	if m.Branch != "" {
		return "the data of the branch " + m.Branch
	}
	return m.Name
}

// Public returns a copy without passwords.
func (m *Manifest) Public() Manifest {
	out := *m
	out.Services = slices.Clone(m.Services)
	for i := range out.Services {
		out.Services[i].Secrets = nil
	}
	return out
}

// Names are those of the services that it holds data of.
func (m *Manifest) Names() []string {
	out := []string{}
	for _, s := range m.Services {
		out = append(out, s.Name)
	}
	return out
}

// Platform is what data is made on here. Data of servers is not the same on all.
func Platform() string { return runtime.GOOS + "/" + runtime.GOARCH }

// Replaced is the name of what a restore has replaced.
const Replaced = "replaced"

// ErrNone says that there is no snapshot of a name.
var ErrNone = errors.New("there is no such snapshot; neighbour snapshot list lists them")

// ErrExists says that there is a snapshot of a name already.
var ErrExists = errors.New("there is a snapshot of this name; drop it, or give this one another")

// A bound in the expression itself would cost every process 2 MB and 3 ms as it starts.
var nameForm = lazyregexp.New(`^[\pL\pN][\pL\pN._+-]*$`)

const mostName = 64 // letters

// CheckName reports what is wrong with the name of a snapshot.
func CheckName(name string) error {
	if !nameForm.MatchString(name) || utf8.RuneCountInString(name) > mostName {
		return fmt.Errorf("%q can't be the name of a snapshot; it has letters, digits, and . _ - + within, and 64 of them at most", name)
	}
	return nil
}

// Store is the folder with a project's snapshots.
type Store struct {
	Dir string
	// HoldsNothing reports whether services of a kind have no data. Earlier versions saved their
	// empty folders, which are passed over. Nil: there are none.
	HoldsNothing func(kind string) bool
}

// unfinished begins the names of folders that are no snapshots yet, or not any more.
const unfinished = ".unfinished-"

func (s Store) path(name string) string { return filepath.Join(s.Dir, name) }

func manifestFile(dir string) string { return filepath.Join(dir, "manifest.json") }
func indexFile(dir string) string    { return filepath.Join(dir, "files.json") }

// PartDir is where a part of a service's data is in the folder of a snapshot.
func PartDir(dir, service string, part int) string {
	return filepath.Join(dir, "data", service, strconv.Itoa(part))
}

// Path returns the folder of a snapshot.
func (s Store) Path(name string) string { return s.path(name) }

// List returns all snapshots, the newest first, and what is wrong with those that can't be read.
func (s Store) List() (all []Manifest, wrong []error) {
	entries, err := os.ReadDir(s.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, []error{err}
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") || !e.IsDir() {
			continue
		}
		if m, err := s.Get(e.Name()); err != nil {
			wrong = append(wrong, err)
		} else {
			all = append(all, *m)
		}
	}
	slices.SortFunc(all, func(a, b Manifest) int { return cmp.Or(b.Made.Compare(a.Made), cmp.Compare(a.Name, b.Name)) })
	return all, wrong
}

// Get returns a snapshot.
func (s Store) Get(name string) (*Manifest, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	b, err := os.ReadFile(manifestFile(s.path(name)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%q: %w", name, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	m, err := parseManifest(b)
	if err != nil {
		return nil, fmt.Errorf("the snapshot %s can't be used: %w", name, err)
	}
	m.Name = name
	if s.HoldsNothing != nil {
		m.Services = slices.DeleteFunc(m.Services, func(one Service) bool { return s.HoldsNothing(one.Kind) })
	}
	return m, nil
}

// parseManifest reads a manifest that somebody else may have written.
func parseManifest(b []byte) (*Manifest, error) {
	var m Manifest
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, fmt.Errorf("its manifest is damaged: %w", err)
	}
	switch {
	case m.Format > Format:
		return nil, fmt.Errorf("it was made by a newer version (form %d, this one knows %d); bring Neighbour up to date", m.Format, Format)
	case m.Format < 1:
		return nil, errors.New("its manifest is damaged: it names no form")
	}
	for _, s := range m.Services {
		if s.Name == "" || s.Name != filepath.Base(s.Name) || !filepath.IsLocal(s.Name) || s.Kind == "" {
			return nil, fmt.Errorf("its manifest is damaged: %q is no service", s.Name)
		}
	}
	return &m, nil
}

// Draft is a snapshot that is being put together.
type Draft struct {
	Dir   string
	store Store
	lock  *os.File
}

// Begin makes the folder in which a snapshot is put together, after it has taken away what was
// interrupted before. What it has is left alone by
// others until Discard is called, which does nothing to a snapshot that was finished.
func (s Store) Begin() (*Draft, error) {
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return nil, err
	}
	s.Clean()
	lock, err := s.lock(syscall.LOCK_SH)
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(s.Dir, unfinished)
	if err != nil {
		lock.Close()
		return nil, err
	}
	return &Draft{dir, s, lock}, nil
}

// lock takes the lock of those that put snapshots together, or of the one who cleans up.
func (s Store) lock(how int) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(s.Dir, ".lock"), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	for {
		err = syscall.Flock(int(f.Fd()), how)
		if err == nil {
			return f, nil
		}
		if err != syscall.EINTR {
			f.Close()
			return nil, &os.PathError{Op: "lock", Path: f.Name(), Err: err}
		}
	}
}

// Discard deletes what was not finished.
func (d *Draft) Discard() {
	_ = tree.Remove(d.Dir)
	d.lock.Close()
}

// Finish makes a draft the snapshot of a name. Index says, by the service and the number of its
// part, what the files were that it was copied from.
func (d *Draft) Finish(m *Manifest, index map[string]map[string]Stamp) error {
	return d.store.finish(d.Dir, m, index)
}

func (s Store) finish(dir string, m *Manifest, index map[string]map[string]Stamp) error {
	m.Format, m.Platform = Format, cmp.Or(m.Platform, Platform())
	for file, v := range map[string]any{manifestFile(dir): m, indexFile(dir): index} {
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, b, 0o600); err != nil {
			return err
		}
	}
	to := s.path(m.Name)
	if m.Why != "" { // the next takes its place
		if err := s.drop(m.Name); err != nil {
			return err
		}
	}
	// A folder in the place is not replaced, since it is not empty.
	if err := os.Rename(dir, to); err != nil {
		if _, at := os.Lstat(to); at == nil {
			return fmt.Errorf("%q: %w", m.Name, ErrExists)
		}
		return err
	}
	return nil
}

// Settle notes that a snapshot is on the disk, and not only in the machine's memory, once it is.
func (s Store) Settle(name string) error {
	if err := flush(s.Dir); err != nil {
		return err
	}
	m, err := s.Get(name)
	if err != nil || m.Boot == "" {
		return err
	}
	m.Boot = ""
	b, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return atomicfile.Write(manifestFile(s.path(name)), b, 0o600)
}

// Whole reports why a snapshot can't be believed: the machine, which boot stands for, went down
// before it was on the disk.
func (m *Manifest) Whole(boot string) error {
	if m.Boot != "" && m.Boot != boot {
		return fmt.Errorf("the machine went down before the snapshot %s was on its disk, so that it may not be whole; drop it", m.Name)
	}
	return nil
}

// Drop deletes a snapshot.
func (s Store) Drop(name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if _, err := os.Lstat(s.path(name)); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%q: %w", name, ErrNone)
	}
	return s.drop(name)
}

// drop takes a snapshot away at once, so that an end at any moment leaves all of it or none.
func (s Store) drop(name string) error {
	aside, err := os.MkdirTemp(s.Dir, unfinished)
	if err != nil {
		return err
	}
	if err := os.Rename(s.path(name), filepath.Join(aside, "old")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		_ = os.Remove(aside)
		return err
	}
	return tree.Remove(aside)
}

// Clean deletes what was interrupted, unless something is under way.
func (s Store) Clean() {
	lock, err := s.lock(syscall.LOCK_EX | syscall.LOCK_NB)
	if err != nil {
		return
	}
	defer lock.Close()
	left, _ := filepath.Glob(filepath.Join(s.Dir, unfinished+"*"))
	for _, l := range left {
		_ = tree.Remove(l)
	}
}

// Index returns what the files of a service's part were when a snapshot was made, by their path.
func (s Store) Index(name string) map[string]map[string]Stamp {
	var out map[string]map[string]Stamp
	b, err := os.ReadFile(indexFile(s.path(name)))
	if err != nil || json.Unmarshal(b, &out) != nil {
		return nil
	}
	return out
}

// Size returns how much snapshots hold on the disk; what several share counts once.
func (s Store) Size() int64 {
	var sum int64
	seen := map[uint64]bool{}
	_ = filepath.WalkDir(s.Dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if info, err := e.Info(); err == nil && !seen[stampOf(info).Inode] {
			seen[stampOf(info).Inode] = true
			sum += info.Size()
		}
		return nil
	})
	return sum
}

// CheckRoom makes sure that bytes fit where a path is.
func CheckRoom(path string, bytes int64) error {
	left, err := free(path)
	if err != nil || bytes < 0 || uint64(bytes) <= left {
		return nil
	}
	return &NoRoomError{Path: path, Needed: bytes, Left: int64(left)}
}

// NoRoomError says that something does not fit on a disk.
type NoRoomError struct {
	Path         string
	Needed, Left int64
}

func (e *NoRoomError) Error() string {
	return fmt.Sprintf("there is not enough room where %s is: %d MB are needed, and %d MB are left", e.Path, e.Needed>>20, e.Left>>20)
}
