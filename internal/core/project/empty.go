package project

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/tree"
)

// KeepsData reports whether a service has data of its own that is kept.
func (p *Project) KeepsData(s *declare.Service) bool {
	return p.keepsData(&kind.Instance{Service: s})
}

// DataOf returns the files and folders that a service's data is kept in.
func (p *Project) DataOf(in *kind.Instance) []string {
	if k, ok := p.Kind(in.Service).(kind.Holder); ok {
		return k.Files(in)
	}
	return []string{in.Data}
}

// Size returns how much files and folders hold, in bytes.
func Size(paths ...string) uint64 {
	var sum uint64
	for _, path := range paths {
		_ = filepath.WalkDir(path, func(_ string, e fs.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
				sum += uint64(info.Size())
			}
			return nil
		})
	}
	return sum
}

// Empty takes away the data of a service that doesn't run. It is moved aside at
// once, so that an end at any moment leaves all of it or none.
func (p *Project) Empty(service string) error {
	in, err := p.Instance(p.Service(service))
	if err != nil {
		return err
	}
	// First, so that whatever is done to data is not taken for done to the next.
	if err := p.ForgetData(service); err != nil {
		return err
	}
	for _, path := range p.DataOf(in) {
		aside := path + ".emptied-" + time.Now().Format("20060102150405.000000")
		if err := os.Rename(path, aside); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return err
		}
		if err := tree.Remove(aside); err != nil {
			return err
		}
	}
	return nil
}

// RemoveEmptied deletes what an emptying that was interrupted has left.
func (p *Project) RemoveEmptied(in *kind.Instance) {
	for _, path := range p.DataOf(in) {
		left, _ := filepath.Glob(path + ".emptied-*")
		for _, l := range left {
			_ = tree.Remove(l)
		}
	}
}
