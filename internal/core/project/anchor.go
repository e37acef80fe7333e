package project

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/atomicfile"
)

// A project's state changes all the time while services run, and tools that watch the project's
// tree would be woken by it. So it is in this user's folder for state, and the tree has an anchor
// only: a folder with the id by which the state is known. Three have their state in the anchor
// itself: projects of earlier versions, those of users whose home can't be written, and those of a
// CI machine, which keeps what is below the project's folder, and nothing else.

// anchor returns the folder beside the declaration by which the project's state is found.
func (p *Project) anchor() string { return filepath.Join(p.Dir, StateDir) }

// within reports whether the state is in the project's tree.
func (p *Project) within() bool { return p.base == p.anchor() }

// StateFolder returns where the state of the project is, with that of its copies: data, logs, what
// is remembered. It may not exist yet.
func (p *Project) StateFolder() string { return p.base }

// stateOf returns where the state of the project in a folder is, or is to be.
func stateOf(dir string) string {
	anchor := filepath.Join(dir, StateDir)
	all := statesDir()
	id, err := readID(anchor)
	if all == "" {
		if place := placeOf(anchor, id); err == nil && place != "" { // made by the same user with a home
			var r record
			known := filepath.Join(place, "..", "..", "known", filepath.Base(recordPath(id)))
			if atomicfile.ReadJSON(known, &r) == nil && r.Dir == dir {
				return place
			}
		}
		return anchor
	}
	if holdsState(anchor) {
		return anchor
	}
	if err == nil {
		r, err := readRecord(id)
		if err != nil || r.State == "" { // this user's folder for state is another than it was, as with XDG_STATE_HOME
			r.Dir, r.State = dir, placeOf(anchor, id)
		}
		if r.State != "" && (r.Dir == dir || !hasID(r.Dir, id)) {
			return r.State // a folder that was moved takes its state along; a copy does not
		}
	} else {
		if r := recordOf(dir); r.State != "" {
			return r.State
		}
		if os.Getenv("CI") != "" || unix.Access(nearest(all), unix.W_OK) != nil {
			return anchor
		}
	}
	sum := sha256.Sum256([]byte(dir))
	first := filepath.Join(all, plain(filepath.Base(dir))+"-"+hex.EncodeToString(sum[:4]))
	for n, path := 2, first; ; n, path = n+1, fmt.Sprintf("%s-%d", first, n) {
		there, err := readID(path)
		if errors.Is(err, fs.ErrNotExist) || err == nil && there == id {
			return path
		}
		if r, err := readRecord(there); err == nil && r.Dir == dir && r.State == path {
			return path // one that was to become a project of its own, and was interrupted
		}
	}
}

// placeOf returns the state's place as an anchor tells it, "" unless what is there is this user's and
// has the id. A stranger who wrote the anchor doesn't know one.
func placeOf(anchor, id string) string {
	b, err := readSmall(filepath.Join(anchor, placeFile))
	place := strings.TrimSpace(string(b))
	if err != nil || !filepath.IsAbs(place) || !isOurs(place) {
		return ""
	}
	if there, err := readID(place); err != nil || there != id {
		return ""
	}
	return place
}

// plain returns a text as far as it can be a part of any path, and is short.
func plain(name string) string {
	name = strings.Map(func(r rune) rune {
		if r < 0x80 && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_.", r)) {
			return r
		}
		return '-'
	}, name)
	return strings.TrimLeft(name[:min(len(name), 20)], ".")
}

// statesDir returns the folder with the states of this user's projects, "" for a user without a
// home.
func statesDir() string {
	if dir := UserDir(); dir != "" {
		return filepath.Join(dir, "state")
	}
	return ""
}

// holdsState reports whether an anchor has the state in it: it tells of no other place, and has
// more than anchors of projects whose state is elsewhere.
func holdsState(anchor string) bool {
	entries, _ := os.ReadDir(anchor)
	more := false
	for _, e := range entries {
		if e.Name() == placeFile {
			return false
		}
		more = more || e.Name() != idFile && e.Name() != ignoreFile
	}
	return more
}

// readID returns the id in a folder: an anchor, or one for state.
func readID(dir string) (string, error) {
	b, err := readSmall(filepath.Join(dir, idFile))
	if err == nil && len(b) == 0 {
		err = fs.ErrNotExist
	}
	return string(b), err
}

// hasID reports whether the anchor of a project's folder has an id.
func hasID(dir, id string) bool {
	theirs, err := readID(filepath.Join(dir, StateDir))
	return err == nil && theirs == id
}

// recordOf returns the record of the project in a folder that has lost its anchor; an empty one if
// there is none.
func recordOf(dir string) record {
	all, _ := filepath.Glob(recordPath("*"))
	for _, path := range all {
		var r record
		if atomicfile.ReadJSON(path, &r) != nil || r.Dir != dir || r.State == "" {
			continue
		}
		// Who was interrupted between the record and the state has left one that is nobody's.
		id, err := readID(r.State)
		if errors.Is(err, fs.ErrNotExist) || err == nil && recordPath(id) == path {
			r.id = strings.TrimSuffix(filepath.Base(path), ".json")
			return r
		}
	}
	return record{}
}

// Present reports whether there is a project in a folder, though its declaration may be gone, as
// on a branch that has none.
func Present(dir string) bool {
	for _, name := range []string{StateDir, declare.FileName} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return true
		}
	}
	return false
}
