package snapshot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/tree"
)

// Swap is the replacement of a file or folder by another beside it.
type Swap struct {
	Live  string `json:"live"`
	Fresh string `json:"fresh,omitempty"` // what comes in its place; "" for nothing
	Old   string `json:"old"`             // where it is put
	// Service and Part say what of a snapshot it is.
	Service string `json:"service"`
	Part    int    `json:"part"`
}

// Replacement is what a restore replaces. Once it is written down it is carried out, also if
// it was interrupted.
type Replacement struct {
	Swaps []Swap `json:"swaps"`
	// Replaced is what is kept of the data that was there; nil for nothing.
	Replaced *Manifest `json:"replaced,omitempty"`
	// Branch is the git branch whose data it is then; "" if that does not change.
	Branch string `json:"branch,omitempty"`
	// Restored is what comes in its place.
	Restored *Manifest `json:"restored"`
}

// Prepared returns what a restore of a part has ready beside the live data, and where that is
// put. They are in the same folder, so that one takes the other's place at once.
func Prepared(live string) (fresh, old string) { return live + ".restoring", live + ".replaced" }

// Commit writes a replacement down. From here on it is carried out. What takes the place of data
// that is kept is on the disk by then; where nothing is kept nothing is worth waiting for a disk.
func Commit(file string, r *Replacement) error {
	flushed := map[string]bool{}
	for _, s := range r.Swaps {
		dir := filepath.Dir(s.Live)
		if r.Replaced == nil && r.Branch == "" || flushed[dir] {
			continue
		}
		if err := flush(dir); err != nil {
			return err
		}
		flushed[dir] = true
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return atomicfile.Write(file, b, 0o600)
}

// Pending returns the replacement that was written down and not finished, nil if there is none.
func Pending(file string) (*Replacement, error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var r Replacement
	if err := json.Unmarshal(b, &r); err != nil {
		return nil, fmt.Errorf("%s, which says how far a restore has come, is damaged: %w", file, err)
	}
	return &r, nil
}

// exists reports whether there is anything at a path.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// Carry carries a replacement out, or what is left of it, and keeps what was there as a
// snapshot. It may be repeated after an end at any moment.
func (s Store) Carry(r *Replacement) error {
	for _, w := range r.Swaps {
		// While the new data is there it has not taken its place, so that what is live is old.
		if (w.Fresh != "" && exists(w.Fresh) || w.Fresh == "") && exists(w.Live) && !exists(w.Old) {
			if err := os.Rename(w.Live, w.Old); err != nil {
				return err
			}
		}
		if w.Fresh != "" && exists(w.Fresh) {
			if err := os.Rename(w.Fresh, w.Live); err != nil {
				return err
			}
		}
	}
	if r.Replaced == nil {
		for _, w := range r.Swaps {
			if err := tree.Remove(w.Old); err != nil {
				return err
			}
		}
		return nil
	}
	return s.keepOld(r)
}

// replacing is the folder in which a snapshot of what was replaced is put together. It is not taken
// away with what was interrupted, since a replacement that was is gone on with.
const replacing = ".replacing"

// keepOld makes a snapshot of what was replaced.
func (s Store) keepOld(r *Replacement) error {
	dir := filepath.Join(s.Dir, replacing)
	for _, w := range r.Swaps {
		if !exists(w.Old) {
			continue
		}
		to := PartDir(dir, w.Service, w.Part)
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		if err := move(w.Old, to); err != nil {
			return err
		}
	}
	if !exists(dir) { // it was through, or nothing was there
		return nil
	}
	r.Replaced.Bytes = 0
	for i := range r.Replaced.Services {
		one := &r.Replaced.Services[i]
		for part := range one.Parts {
			if !exists(PartDir(dir, one.Name, part)) {
				one.Parts[part] = ""
			}
		}
		one.Bytes, one.Files = sizeOf(filepath.Join(dir, "data", one.Name))
		r.Replaced.Bytes += one.Bytes
	}
	r.Replaced.Copied = r.Replaced.Bytes
	return s.finish(dir, r.Replaced, nil)
}

// move renames, or copies where that leads to another file system.
func move(from, to string) error {
	if err := os.Rename(from, to); err == nil {
		return nil
	}
	if err := tree.Remove(to); err != nil {
		return err
	}
	t := Tree{From: from, To: to}
	if err := t.Update(context.Background(), func(uint64) bool { return false }, true); err != nil {
		return err
	}
	return tree.Remove(from)
}

// sizeOf returns how many bytes and files a folder holds.
func sizeOf(dir string) (bytes int64, files int) {
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if info, err := e.Info(); err == nil {
			bytes += info.Size()
			files++
		}
		return nil
	})
	return bytes, files
}
