package snapshot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"neighbour/internal/core/machine/tree"
)

// Stamp tells whether a file is the one that was copied, with what it held then.
type Stamp struct {
	Size  int64  `json:"s"`
	Inode uint64 `json:"i"`
	Mod   int64  `json:"m"` // nanoseconds since 1970
	// Change is when its contents or its inode changed last.
	Change int64 `json:"c"`
}

// tick is how near to now a file's last change may be for another to be possible without
// its times telling: file systems take them from a clock that goes on by some milliseconds.
const tick = 50 * time.Millisecond

// workers is how many files are copied at once.
const workers = 4

// Tree is a copy of a file or a folder that can be brought up to date, so that most of the work
// is done while the original still changes.
type Tree struct {
	From, To string
	// Base is an earlier copy of the same files, and Earlier what they were then. What has not
	// changed since is linked rather than copied.
	Base    string
	Earlier map[string]Stamp

	// Files are those of the copy by their path in it, with what they were in the original. One
	// that may have changed unseen is not among them.
	Files map[string]Stamp
	// Bytes is how much the copy holds, and Copied how much of it is not shared with Base or,
	// where the file system can, with the original.
	Bytes, Copied int64
	// Progress is called with the bytes that each file has added, from several goroutines.
	Progress func(bytes int64)

	holds map[string]int64 // the bytes of each file
}

// Count returns how many files the copy has.
func (t *Tree) Count() int { return len(t.holds) }

// job is a file that is to be copied.
type job struct {
	path  string
	stamp Stamp
	info  fs.FileInfo
	sure  bool // its times tell whether it changes from now on
}

// Update makes the copy what the original is now. A file that changes meanwhile is only right
// after another update. Mapped reports whether a file, by its inode, may be written to without
// its times telling. With quiet false, files that vanish meanwhile are left out.
func (t *Tree) Update(ctx context.Context, mapped func(inode uint64) bool, quiet bool) error {
	if t.Files == nil {
		t.Files, t.holds = map[string]Stamp{}, map[string]int64{}
	}
	seen := map[string]bool{}
	var jobs []job
	var folders []job
	err := filepath.WalkDir(t.From, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && (!quiet || path == t.From) {
			return nil
		}
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rel, err := filepath.Rel(t.From, path)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) && !quiet {
			return nil
		}
		if err != nil {
			return err
		}
		to := filepath.Join(t.To, rel)
		switch {
		case e.IsDir():
			seen[rel] = true
			if err := t.folder(rel); err != nil {
				return err
			}
			folders = append(folders, job{path: rel, info: info})
		case info.Mode()&fs.ModeSymlink != 0:
			seen[rel] = true
			t.forget(rel)
			return t.copyLink(rel, to)
		case info.Mode().IsRegular():
			seen[rel] = true
			stamp := stampOf(info)
			if was, ok := t.Files[rel]; ok && was == stamp && !mapped(stamp.Inode) {
				return nil
			}
			jobs = append(jobs, job{rel, stamp, info, !mapped(stamp.Inode) && time.Since(time.Unix(0, max(stamp.Change, stamp.Mod))) > tick})
		} // sockets and pipes hold nothing
		return nil
	})
	if err != nil {
		return err
	}
	if err := t.removeBut(seen); err != nil {
		return err
	}
	if err := t.copyAll(ctx, jobs, quiet); err != nil {
		return err
	}
	t.Bytes = 0
	for _, n := range t.holds {
		t.Bytes += n
	}
	// From the innermost, since nothing can be put into one that is not writable.
	for i := len(folders) - 1; i >= 0; i-- {
		f := folders[i]
		if err := sealAs(filepath.Join(t.To, f.path), f.info); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// folder makes a folder of the copy, in which files can be made until all is copied.
func (t *Tree) folder(rel string) error {
	to := filepath.Join(t.To, rel)
	if info, err := os.Lstat(to); err == nil && !info.IsDir() {
		t.forget(rel)
		if err := os.Remove(to); err != nil {
			return err
		}
	}
	if err := os.Mkdir(to, 0o700); !errors.Is(err, fs.ErrExist) {
		return err
	}
	return os.Chmod(to, 0o700)
}

// forget notes that there is no file at a path, nor below it.
func (t *Tree) forget(rel string) {
	for name := range t.holds {
		if name == rel || within(rel, name) {
			delete(t.holds, name)
			delete(t.Files, name)
		}
	}
}

func (t *Tree) copyAll(ctx context.Context, jobs []job, quiet bool) error {
	var copied atomic.Int64
	done := make([]bool, len(jobs))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	for i, j := range jobs {
		group.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			from, to := filepath.Join(t.From, j.path), filepath.Join(t.To, j.path)
			if err := tree.Remove(to); err != nil { // it may have been a folder
				return err
			}
			if was, ok := t.Earlier[j.path]; ok && was == j.stamp && j.sure && os.Link(filepath.Join(t.Base, j.path), to) == nil {
				done[i] = true
				t.tell(j.stamp.Size)
				return nil
			}
			shared, err := copyFile(from, to, j.info)
			if errors.Is(err, fs.ErrNotExist) && !quiet {
				return nil
			}
			if err != nil {
				return err
			}
			if !shared {
				copied.Add(j.stamp.Size)
			}
			done[i] = true
			t.tell(j.stamp.Size)
			return nil
		})
	}
	err := group.Wait()
	for i, j := range jobs {
		delete(t.Files, j.path)
		delete(t.holds, j.path)
		if done[i] {
			t.holds[j.path] = j.stamp.Size
			if j.sure {
				t.Files[j.path] = j.stamp
			}
		}
	}
	t.Copied += copied.Load()
	return err
}

func (t *Tree) tell(bytes int64) {
	if t.Progress != nil {
		t.Progress(bytes)
	}
}

// removeBut takes away what the original doesn't have any more.
func (t *Tree) removeBut(seen map[string]bool) error {
	return filepath.WalkDir(t.To, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(t.To, path)
		if err != nil || seen[rel] {
			return err
		}
		t.forget(rel)
		if err := tree.Remove(path); err != nil || !e.IsDir() {
			return err
		}
		return fs.SkipDir
	})
}

// within reports whether a path is below a folder; both are relative to the same one.
func within(folder, path string) bool {
	rel, err := filepath.Rel(folder, path)
	return err == nil && filepath.IsLocal(rel)
}

func stampOf(info fs.FileInfo) Stamp {
	s := Stamp{Size: info.Size(), Mod: info.ModTime().UnixNano()}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		s.Inode, s.Change = st.Ino, changeTime(st)
	}
	return s
}

func (t *Tree) copyLink(rel, to string) error {
	target, err := checkLink(t.From, rel)
	if err != nil {
		return err
	}
	if was, err := os.Readlink(to); err == nil && was == target {
		return nil
	}
	if err := tree.Remove(to); err != nil {
		return err
	}
	return os.Symlink(target, to)
}

// copyFile copies a file that may be written to meanwhile. Shared says that the file system has
// both refer to the same blocks.
func copyFile(from, to string, info fs.FileInfo) (shared bool, err error) {
	in, err := os.Open(from)
	if err != nil {
		return false, err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if shared = clone(out, in) == nil; !shared {
		if err := copyContents(out, in, info); err != nil {
			return false, fmt.Errorf("%s can't be copied: %w", from, err)
		}
	}
	return shared, sealAs(to, info)
}

// copyContents copies what a file holds, without its holes.
func copyContents(out, in *os.File, info fs.FileInfo) error {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || st.Blocks*512 >= info.Size() {
		_, err := io.Copy(out, in) // in the kernel, where that can be
		return err
	}
	for at := int64(0); ; {
		data, hole, err := nextData(in, at)
		if err != nil {
			return err
		}
		if data < 0 {
			break
		}
		if _, err := in.Seek(data, io.SeekStart); err != nil {
			return err
		}
		if _, err := out.Seek(data, io.SeekStart); err != nil {
			return err
		}
		if _, err := io.CopyN(out, in, hole-data); err != nil && err != io.EOF {
			return err
		}
		at = hole
	}
	return out.Truncate(info.Size())
}

// sealAs gives a copy the rights and the time of its original.
func sealAs(path string, info fs.FileInfo) error {
	if err := os.Chmod(path, info.Mode().Perm()); err != nil {
		return err
	}
	return os.Chtimes(path, time.Time{}, info.ModTime())
}

// ExplainFull says of a failure for want of room which disk is full: that of dir. Other errors are
// returned as they are.
func ExplainFull(err error, dir string) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("the disk of %s is full; nothing has changed: %w", dir, err)
	}
	return err
}
