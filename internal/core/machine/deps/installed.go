package deps

import (
	"bufio"
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// Installed reports whether what a command would install in dir is there already, by the manager's
// own record of what it has installed. It is false where that can't be told.
func Installed(dir, command string) bool {
	sets := In(dir)
	if python, at, is := Python(dir, dir); is && at == dir {
		sets = append(sets, python)
	}
	for _, s := range sets {
		if s.Install != command {
			continue
		}
		lock, made := filepath.Join(dir, s.When), filepath.Join(dir, s.Makes)
		switch s.When {
		case "package-lock.json":
			return sameNPM(lock, filepath.Join(made, ".package-lock.json"))
		case "pnpm-lock.yaml":
			want, err1 := os.ReadFile(lock)
			have, err2 := os.ReadFile(filepath.Join(made, ".pnpm", "lock.yaml"))
			return err1 == nil && err2 == nil && bytes.Equal(want, have)
		case "yarn.lock":
			return sameYarn(lock, filepath.Join(made, ".yarn-integrity"))
		case "composer.lock":
			return sameComposer(lock, filepath.Join(made, "composer", "installed.json"))
		case "requirements.txt":
			return samePip(lock, made)
		}
	}
	return false
}

// readJSON reports whether a file could be read into something.
func readJSON(name string, into any) bool {
	b, err := os.ReadFile(name)
	return err == nil && json.Unmarshal(b, into) == nil
}

// sameNPM reports whether a lock file of npm and the hidden one, in which npm writes what it has
// installed, name the same packages. Optional ones may be missing: they are for other systems.
func sameNPM(lock, installed string) bool {
	type packages struct {
		Packages map[string]struct {
			Version, Integrity string
			Optional, Link     bool
		}
	}
	var want, have packages
	if !readJSON(lock, &want) || !readJSON(installed, &have) || have.Packages == nil {
		return false
	}
	n := 0
	for path, p := range want.Packages {
		if !strings.Contains(path, "node_modules/") { // the project's own
			continue
		}
		h, is := have.Packages[path]
		if !is && p.Optional {
			continue
		}
		if !is || h.Version != p.Version || h.Integrity != p.Integrity {
			return false
		}
		n++
	}
	for path := range have.Packages {
		if _, is := want.Packages[path]; !is {
			return false
		}
	}
	return n > 0
}

var (
	yarnEntry    = regexp.MustCompile(`^\S.*:$`)
	yarnResolved = regexp.MustCompile(`^  resolved "(.*)"$`)
)

// sameYarn reports whether a lock file of the first Yarn and its record of what it has installed
// resolve the same packages. Later ones keep no such record.
func sameYarn(lock, installed string) bool {
	var have struct {
		LockfileEntries map[string]string
	}
	b, err := os.ReadFile(lock)
	if err != nil || !readJSON(installed, &have) {
		return false
	}
	want := map[string]string{}
	var names []string
	for in := bufio.NewScanner(bytes.NewReader(b)); in.Scan(); {
		line := in.Text()
		switch m := yarnResolved.FindStringSubmatch(line); {
		case m != nil:
			for _, n := range names {
				want[n] = m[1]
			}
		case yarnEntry.MatchString(line) && line[0] != '#':
			names = strings.Split(strings.TrimSuffix(line, ":"), ", ")
			for i, n := range names {
				names[i] = strings.Trim(n, `"`)
			}
		}
	}
	return len(want) > 0 && maps.Equal(want, have.LockfileEntries)
}

// sameComposer reports whether a lock file of Composer and what it has written beside the packages
// name the same ones, those for development with them.
func sameComposer(lock, installed string) bool {
	type one struct {
		Name, Version string
		Source, Dist  struct{ Reference string }
	}
	var want struct {
		Packages []one
		Dev      []one `json:"packages-dev"`
	}
	var have struct{ Packages []one }
	if !readJSON(lock, &want) || !readJSON(installed, &have) {
		return false
	}
	byName := func(all []one) map[string]one {
		out := map[string]one{}
		for _, p := range all {
			out[p.Name] = p
		}
		return out
	}
	all := byName(append(want.Packages, want.Dev...))
	return len(all) > 0 && maps.Equal(all, byName(have.Packages))
}

var (
	requirement = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]*)(?:\[[^\]]*\])?(?:==([A-Za-z0-9.!+]+))?$`)
	separators  = regexp.MustCompile(`[-_.]+`)
)

// samePip reports whether an environment of Python's has each package that a file of requirements
// names: by its name alone, or with one version. With anything else in the file (ranges, markers,
// options) pip alone can tell.
func samePip(requirements, environment string) bool {
	b, err := os.ReadFile(requirements)
	if err != nil {
		return false
	}
	have := map[string]string{}
	infos, _ := filepath.Glob(filepath.Join(environment, "lib", "python3*", "site-packages", "*.dist-info"))
	for _, info := range infos {
		// PEP 427: the name has no dash in it.
		name, version, _ := strings.Cut(strings.TrimSuffix(filepath.Base(info), ".dist-info"), "-")
		have[normalized(name)] = version
	}
	n := 0
	for line := range strings.Lines(string(b)) {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.ReplaceAll(strings.TrimSpace(line), " ", ""); line == "" {
			continue
		}
		m := requirement.FindStringSubmatch(line)
		if m == nil {
			return false
		}
		version, is := have[normalized(m[1])]
		if !is || m[2] != "" && m[2] != version {
			return false
		}
		n++
	}
	return n > 0
}

// normalized returns the name of a package of Python's as it is compared (PEP 503).
func normalized(name string) string {
	return strings.ToLower(separators.ReplaceAllString(name, "-"))
}
