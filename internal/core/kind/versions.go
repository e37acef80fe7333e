package kind

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
)

// VersionError says that no installed version will do, and what would bring one that
// does; no packages if this system has none.
type VersionError struct {
	Err      error
	Packages Packages
}

func (e *VersionError) Error() string {
	text := e.Err.Error()
	if e.Packages.Debian != "" {
		text += "; " + e.Packages.InWords()
	}
	return text
}
func (e *VersionError) Unwrap() error { return e.Err }

// Series are packages of Debian that stand side by side, one for each version.
type Series struct {
	// Pattern has %s where the version stands: "postgresql-%s".
	Pattern string
	// Versions are those that there have been, the newest first.
	Versions []string
}

// For returns the package of the newest version that is allowed and that this system
// has; none without apt-get.
func (s Series) For(allows func(version string) bool) Packages {
	if _, err := exec.LookPath("apt-get"); err != nil {
		return Packages{}
	}
	for _, v := range s.Versions {
		// A version stands for all that are called so: some patch of it must do.
		if !slices.ContainsFunc([]string{"", ".0", ".1", ".99", ".0.99"}, func(patch string) bool { return allows(v + patch) }) {
			continue
		}
		name := fmt.Sprintf(s.Pattern, v)
		// It answers nothing, and not with an error, of what others only mention.
		if out, err := exec.Command("apt-cache", "show", "--no-all-versions", name).Output(); err == nil && strings.HasPrefix(string(out), "Package: "+name+"\n") {
			return Packages{Debian: name}
		}
	}
	return Packages{}
}
