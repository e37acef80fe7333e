package project

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/killpoint"
	"neighbour/internal/core/machine/tree"
)

// CopiedError says that a project's folder is a copy of another project's, with its state: what
// that state says runs, and has which ports, is the other's.
type CopiedError struct {
	Dir, From string
}

func (e *CopiedError) Error() string {
	return fmt.Sprintf("%s is a copy of %s; to have it be a project of its own, with ports of its own and a copy of the data: neighbour -C %s vouch", e.Dir, e.From, e.Dir)
}

// copiedFrom returns the project that this one is a copy of, "" if it is none: the folder for
// state is known as that of another folder, and is there, too. A folder that was moved is none.
func (p *Project) copiedFrom() string {
	id, err := p.id()
	if err != nil {
		return ""
	}
	r, err := p.record()
	if err != nil || r.Dir == "" || r.Dir == p.Dir {
		return ""
	}
	if !hasID(r.Dir, id) {
		return "" // that is no more, or another
	}
	here, err1 := os.Stat(p.anchor())
	there, err2 := os.Stat(filepath.Join(r.Dir, StateDir))
	if err1 != nil || err2 != nil || os.SameFile(here, there) {
		return ""
	}
	return r.Dir
}

// noteMoved remembers where the project is, if that is another place than before.
func (p *Project) noteMoved() error {
	id, err := p.id()
	if err != nil {
		return nil
	}
	r, err := p.record()
	if err != nil || r.Dir == p.Dir {
		return nil
	}
	was := r.Dir
	r.Dir = p.Dir
	if err := saveRecord(id, r); err != nil || Present(was) {
		return err
	}
	_ = os.Remove(listPath(was)) // in place of which this is listed
	return nil
}

// separate makes a copied project one of its own: it keeps its data, with another identity, and
// gets ports of its own; what runs, and what was to be sent, stays the other's. It may be repeated
// if it was interrupted.
func (p *Project) separate(empty bool) error {
	r, err := p.record()
	if err != nil {
		return err
	}
	if !p.within() {
		if err := p.copyState(r, empty); err != nil {
			return err
		}
		r.State = p.base
	}
	killpoint.Reach("copied state")
	for _, name := range othersOnly {
		if err := tree.Remove(filepath.Join(p.base, name)); err != nil {
			return err
		}
	}
	for _, s := range p.Services {
		if !p.KeepsData(s) || empty {
			continue
		}
		in := p.place(s)
		// What runs under another account has its data elsewhere, and the copy has a link there.
		usual := filepath.Join(p.base, "data", s.Name)
		if target, err := os.Readlink(usual); err == nil && in.Account != nil {
			own := filepath.Join(p.sharedDir(), s.Name, "data")
			if target == own {
				continue
			}
			if err := tree.Remove(own); err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(own), 0o711); err != nil {
				return err
			}
			if err := p.Unpack(context.Background(), in, target, own, func(int64) {}); err != nil {
				return fmt.Errorf("the data of %s can't be copied: %w", s.Name, err)
			}
			if err := os.Remove(usual); err != nil {
				return err
			}
			if err := os.Symlink(own, usual); err != nil {
				return err
			}
		}
		for _, path := range p.DataOf(in) {
			if err := removeFleeting(path, p.Kind(s).Info().Fleeting); err != nil {
				return err
			}
		}
	}
	if _, err := atomicfile.UpdateMap(p.madeFile(), func(all map[string]made) (bool, error) {
		for name, m := range all {
			if m.ID != "" {
				m.ID = newDataID()
				all[name] = m
			}
		}
		return true, nil
	}); err != nil {
		return err
	}
	killpoint.Reach("own data")
	r.Dir = p.Dir
	id := recordOf(p.Dir).id // of an attempt that was interrupted
	if id == "" {
		id = rand.Text()
	}
	if err := saveRecord(id, r); err != nil {
		return err
	}
	killpoint.Reach("own record")
	if err := atomicfile.Write(filepath.Join(p.base, idFile), []byte(id), 0o600); err != nil || p.within() {
		return err // last: from here on it is another
	}
	killpoint.Reach("own identity")
	return p.moorTo(id)
}

// othersOnly are the parts of a project's state that mean nothing to a copy of it.
var othersOnly = []string{"run", "ports.json", copiesDir, "templates", "events.db", "events.db-wal", "events.db-shm"}

// copyState copies the state of the project that this is a copy of, by the record of that, but for
// what means nothing here. That project must not run, unless nothing is to be copied.
func (p *Project) copyState(r record, empty bool) error {
	if err := tree.Remove(p.base); err != nil { // what was begun and interrupted
		return err
	}
	if err := os.MkdirAll(filepath.Join(p.base, "data"), 0o700); err != nil || empty {
		return err
	}
	unlock, err := At(r.Dir).lockKeeper()
	if err != nil {
		return fmt.Errorf("%w; or begin with empty data: neighbour -C %s vouch --empty", err, p.Dir)
	}
	defer unlock()
	for _, dir := range []string{"", "data"} {
		entries, err := os.ReadDir(filepath.Join(r.State, dir))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, e := range entries {
			from, to := filepath.Join(r.State, dir, e.Name()), filepath.Join(p.base, dir, e.Name())
			switch {
			case dir == "" && (e.Name() == "data" || slices.Contains(othersOnly, e.Name())):
				continue
			case e.Type()&fs.ModeSymlink != 0: // data of a server that runs under another account
				target, err := os.Readlink(from)
				if err == nil {
					err = os.Symlink(target, to)
				}
				if err != nil {
					return err
				}
				continue
			}
			t := snapshot.Tree{From: from, To: to, Progress: func(int64) {}}
			if err := t.Update(context.Background(), func(uint64) bool { return false }, true); err != nil {
				return snapshot.ExplainFull(err, p.base) // which says what can't be copied
			}
		}
	}
	return nil
}

// lockKeeper keeps keepers of the project from beginning. It fails if one runs.
func (p *Project) lockKeeper() (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(p.LockFile()), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(p.LockFile(), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("the data of %s can't be copied while it runs; stop it first: neighbour -C %s stop", p.Dir, p.Dir)
	}
	return func() { f.Close() }, nil
}

// removeFleeting removes from a copy of data what means something only to the server that has the
// original.
func removeFleeting(dir string, patterns []string) error {
	for _, pattern := range patterns {
		found, _ := filepath.Glob(filepath.Join(dir, pattern))
		for _, f := range found {
			if err := os.Remove(f); err != nil {
				return err
			}
		}
	}
	return nil
}
