package kind

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/Masterminds/semver/v3"
)

// versionCache remembers the version of a program for as long as its file
// stays the same, since asking for it starts a process. It is kept in the
// user's cache folder, where there is one.
type versionCache struct {
	mu    sync.Mutex
	path  string
	known map[string]knownVersion // by the program's path and how it was asked
}

type knownVersion struct {
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Version  string    `json:"version"`
}

var versions versionCache

// load reads the cache. One that can't be read is begun anew.
func (c *versionCache) load() {
	if c.known != nil {
		return
	}
	c.known = map[string]knownVersion{}
	dir, err := os.UserCacheDir()
	if err != nil {
		return
	}
	c.path = filepath.Join(dir, "neighbour", "versions.json")
	if os.MkdirAll(filepath.Dir(c.path), 0o755) != nil {
		c.path = ""
		return
	}
	if b, err := os.ReadFile(c.path); err == nil && json.Unmarshal(b, &c.known) != nil {
		c.known = map[string]knownVersion{}
	}
}

func (c *versionCache) get(question string, info os.FileInfo) (string, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.load()
	k, ok := c.known[question]
	return k.Version, ok && k.Size == info.Size() && k.Modified.Equal(info.ModTime())
}

// put remembers a version. What can't be written is asked for again.
func (c *versionCache) put(question string, info os.FileInfo, version string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.load()
	c.known[question] = knownVersion{info.Size(), info.ModTime(), version}
	b, err := json.Marshal(c.known)
	if err != nil || c.path == "" {
		return
	}
	unfinished := fmt.Sprintf("%s.%d", c.path, os.Getpid())
	if os.WriteFile(unfinished, b, 0o644) == nil {
		_ = os.Rename(unfinished, c.path)
	}
}

// Expression is a regular expression whose first group finds a version.
type Expression interface {
	FindStringSubmatch(text string) []string
	String() string
}

// Versions asks each program, with these arguments, for its version and finds it in the answer with
// the expression's first group. The newest comes first. Programs that don't
// answer are left out; if none does that is an error.
func Versions(paths, ask []string, expression Expression) ([]Program, error) {
	var programs []Program
	var first error
	for _, path := range paths {
		v, err := versionOf(path, ask, expression)
		if err != nil {
			if first == nil {
				first = err
			}
			continue
		}
		programs = append(programs, Program{Path: path, Version: v, Dir: filepath.Dir(path)})
	}
	if len(programs) == 0 {
		return nil, first
	}
	slices.SortStableFunc(programs, func(a, b Program) int { return CompareVersions(b.Version, a.Version) })
	return programs, nil
}

// NoVersionError says that a program's answer has no version that we know.
type NoVersionError struct{ Asked, Answer string }

func (e *NoVersionError) Error() string {
	return fmt.Sprintf("%s answers %q, where no version was found", e.Asked, e.Answer)
}

// CompareVersions compares as cmp.Compare does. What isn't a version comes
// before what is.
func CompareVersions(a, b string) int {
	x, err1 := semver.NewVersion(a)
	y, err2 := semver.NewVersion(b)
	if err1 != nil || err2 != nil {
		return cmp.Compare(a, b)
	}
	return x.Compare(y)
}

func versionOf(path string, ask []string, expression Expression) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	question := strings.Join(append([]string{path}, ask...), " ") + " " + expression.String()
	if v, ok := versions.get(question, info); ok {
		return v, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, path, ask...).CombinedOutput()
	// Some tell it in their help, and end with a code of their own.
	m := expression.FindStringSubmatch(string(out))
	if m == nil && err != nil {
		return "", fmt.Errorf("%s %s: %w", path, strings.Join(ask, " "), err)
	}
	if m == nil {
		return "", &NoVersionError{Asked: path + " " + strings.Join(ask, " "), Answer: strings.TrimSpace(string(out))}
	}
	versions.put(question, info, m[1])
	return m[1], nil
}
