package project

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"

	"neighbour/internal/core/atomicfile"
	"neighbour/internal/core/tree"
)

// CopiedError says that a project's folder is a copy of another project's, with its state: what
// that state says runs, and has which ports, is the other's.
type CopiedError struct {
	Dir, From string
}

func (e *CopiedError) Error() string {
	return fmt.Sprintf("%s is a copy of %s, with its data and its ports; to have it be a project of its own, which keeps the data: neighbour -C %s vouch", e.Dir, e.From, e.Dir)
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
	other := At(r.Dir)
	if theirs, err := other.id(); err != nil || theirs != id {
		return "" // that is no more, or another
	}
	here, err1 := os.Stat(p.base)
	there, err2 := os.Stat(other.base)
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
	r.Dir = p.Dir
	return saveRecord(id, r)
}

// separate makes a copied project one of its own: it keeps its data, with another identity, and
// gets ports of its own; what runs, and what was to be sent, stays the other's. It may be repeated
// if it was interrupted.
func (p *Project) separate() error {
	r, err := p.record()
	if err != nil {
		return err
	}
	for _, name := range []string{"run", "ports.json", copiesDir, "templates", "events.db", "events.db-wal", "events.db-shm"} {
		if err := tree.Remove(filepath.Join(p.base, name)); err != nil {
			return err
		}
	}
	for _, s := range p.Services {
		if !p.KeepsData(s) {
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
	id := rand.Text()
	r.Dir = p.Dir
	if err := saveRecord(id, r); err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(p.base, idFile), []byte(id), 0o600) // last: from here on it is another
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
