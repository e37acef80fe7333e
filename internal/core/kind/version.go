package kind

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/Masterminds/semver/v3"
)

// known remembers the version of a program for as long as its file stays the
// same, since asking for it starts a process.
var known sync.Map // of versionKey

type versionKey struct {
	path     string
	size     int64
	modified time.Time
}

// Versions asks each program for its version with --version and finds it in
// the answer with the expression's first group. The newest comes first.
// Programs that don't answer are left out; if none does that is an error.
func Versions(paths []string, expression *regexp.Regexp) ([]Program, error) {
	var programs []Program
	var first error
	for _, path := range paths {
		v, err := versionOf(path, expression)
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

func versionOf(path string, expression *regexp.Regexp) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	key := versionKey{path, info.Size(), info.ModTime()}
	if v, ok := known.Load(key); ok {
		return v.(string), nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, path, "--version").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s --version: %w", path, err)
	}
	m := expression.FindStringSubmatch(string(out))
	if m == nil {
		return "", fmt.Errorf("%s --version answers %q, where no version was found", path, strings.TrimSpace(string(out)))
	}
	known.Store(key, m[1])
	return m[1], nil
}
