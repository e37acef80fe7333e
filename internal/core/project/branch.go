package project

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/lazyregexp"
)

// Branch says of which git branch the data is.
type Branch struct {
	// Data is the branch whose data the services hold, "" if that isn't known yet; Now is the one
	// that is checked out, "" if none is.
	Data string `json:"data"`
	Now  string `json:"now"`
	// From is the branch from which the one that is checked out was come to last, if the data is
	// another's.
	From string `json:"from,omitempty"`
}

// Differs reports whether the data is that of another branch than the one that is checked out.
func (b Branch) Differs() bool { return b.Data != "" && b.Now != "" && b.Data != b.Now }

// Branch says of which git branch the data is, and which is checked out. It is all zero unless the
// declaration keeps data apart for branches, and in a copy.
func (p *Project) Branch() (Branch, error) {
	var b Branch
	if on, _ := p.ByBranch(); !on || p.Copy != "" {
		return b, nil
	}
	kept := map[string]string{}
	if err := atomicfile.ReadJSON(p.branchFile(), &kept); err != nil {
		return b, err
	}
	b.Data = kept["branch"]
	dir := gitDir(p.Dir)
	if dir == "" {
		return b, nil
	}
	head, err := os.ReadFile(filepath.Join(dir, "HEAD"))
	if errors.Is(err, fs.ErrNotExist) {
		return b, nil // no repository of git's, or a damaged one
	}
	if err != nil {
		return b, err
	}
	if name, ok := strings.CutPrefix(strings.TrimSpace(string(head)), "ref: refs/heads/"); ok {
		if b.Now = name; b.Differs() {
			b.From = cameFrom(filepath.Join(dir, "logs", "HEAD"), name)
		}
	}
	return b, nil
}

// SetBranch remembers of which git branch the data is.
func (p *Project) SetBranch(name string) error {
	b, err := json.Marshal(map[string]string{"branch": name})
	if err != nil {
		return err
	}
	return atomicfile.Write(p.branchFile(), b, 0o600)
}

// branchFile is the file that says of which git branch the data is.
func (p *Project) branchFile() string { return filepath.Join(p.base, "branch.json") }

// gitDir returns the folder in which git keeps what it knows of a folder's work tree, "" if it is
// in none (gitrepository-layout(5)).
func gitDir(dir string) string {
	for at := dir; ; at = filepath.Dir(at) {
		path := filepath.Join(at, ".git")
		info, err := os.Lstat(path)
		switch {
		case err == nil && info.IsDir():
			return path
		case err == nil && info.Mode().IsRegular():
			b, err := readSmall(path)
			if to, ok := strings.CutPrefix(strings.TrimSpace(string(b)), "gitdir: "); err == nil && ok {
				if !filepath.IsAbs(to) {
					to = filepath.Join(at, to)
				}
				return to
			}
			return ""
		}
		if at == filepath.Dir(at) {
			return ""
		}
	}
}

// mostOfLog is how much of the end of git's log of checkouts is read.
const mostOfLog = 64 << 10

var checkout = lazyregexp.New(`\tcheckout: moving from (\S+) to (\S+)$`)

// cameFrom returns the branch from which another was last checked out, "" if git's log does not
// say.
func cameFrom(log, branch string) string {
	f, err := os.Open(log)
	if err != nil {
		return ""
	}
	defer f.Close()
	if end, err := f.Seek(0, io.SeekEnd); err != nil || end < mostOfLog {
		_, _ = f.Seek(0, io.SeekStart)
	} else {
		_, _ = f.Seek(-mostOfLog, io.SeekEnd)
	}
	b, _ := io.ReadAll(f)
	from := ""
	for line := range bytes.Lines(b) {
		if m := checkout.FindStringSubmatch(strings.TrimSuffix(string(line), "\n")); m != nil && m[2] == branch && m[1] != branch {
			from = m[1]
		}
	}
	return from
}

// HasGitBranch reports whether git has a branch of this name; true if that can't be said.
func (p *Project) HasGitBranch(name string) bool {
	dir := gitDir(p.Dir)
	if dir == "" {
		return true
	}
	if b, err := os.ReadFile(filepath.Join(dir, "commondir")); err == nil { // a linked work tree
		dir = filepath.Join(dir, strings.TrimSpace(string(b)))
	}
	if _, err := os.Stat(filepath.Join(dir, "refs", "heads", name)); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return true
	}
	packed, err := os.ReadFile(filepath.Join(dir, "packed-refs"))
	return err == nil && bytes.Contains(packed, []byte(" refs/heads/"+name+"\n"))
}

// branchPrefix begins the names of the snapshots with the data of branches that are not checked
// out.
const branchPrefix = "branch-"

// IsBranchSet reports whether a name is that of the data of a branch.
func IsBranchSet(name string) bool { return strings.HasPrefix(name, branchPrefix) }

var notInNames = lazyregexp.New(`[^\pL\pN._-]`)

// BranchSet returns the name of the snapshot with the data of a branch.
func BranchSet(branch string) string {
	sum := sha256.Sum256([]byte(branch))
	text := []rune(notInNames.ReplaceAllString(branch, "+"))
	return branchPrefix + string(text[:min(len(text), 40)]) + "-" + hex.EncodeToString(sum[:4])
}

// Branches returns where the data of branches is that are not checked out.
func (p *Project) Branches() snapshot.Store { return p.storeIn("branches") }
