// Package hosts has names lead to this machine that its resolver doesn't know, by lines of the
// hosts file (hosts(5)) between marks of our own.
package hosts

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
)

// File is the hosts file.
const File = "/etc/hosts"

// The marks around a project's lines.
func begin(project string) string { return "# Neighbour: " + project + ", begin" }
func end(project string) string   { return "# Neighbour: " + project + ", end" }

// Lines returns what a project's names add to the file, with the marks.
func Lines(project string, names []string) []string {
	if len(names) == 0 {
		return nil
	}
	out := []string{begin(project)}
	for _, name := range slices.Sorted(slices.Values(names)) {
		out = append(out, "127.0.0.1 "+name, "::1 "+name)
	}
	return append(out, end(project))
}

// MarksError says that the marks of a project in a hosts file are not as they were written.
type MarksError struct{ Project string }

func (e *MarksError) Error() string {
	return fmt.Sprintf("the lines of %s in %s have a beginning without an end, or an end without a beginning; mend them by hand", e.Project, File)
}

// With returns a hosts file in which a project has these names, and no others; without names it
// has none of the project's lines. All else stays byte for byte.
func With(file, project string, names []string) (string, error) {
	var kept []string
	inside, seen := false, false
	for line := range strings.Lines(file) {
		switch strings.TrimRight(line, "\r\n \t") {
		case begin(project):
			if inside || seen {
				return "", &MarksError{project}
			}
			inside, seen = true, true
			continue
		case end(project):
			if !inside {
				return "", &MarksError{project}
			}
			inside = false
			continue
		}
		if !inside {
			kept = append(kept, line)
		}
	}
	if inside {
		return "", &MarksError{project}
	}
	out := strings.Join(kept, "")
	if lines := Lines(project, names); len(lines) > 0 {
		if out != "" && !strings.HasSuffix(out, "\n") {
			out += "\n"
		}
		out += strings.Join(lines, "\n") + "\n"
	}
	return out, nil
}

// Names returns the names that the lines of a project in a hosts file have.
func Names(file, project string) []string {
	var out []string
	inside := false
	for line := range strings.Lines(file) {
		switch line = strings.TrimRight(line, "\r\n \t"); {
		case line == begin(project):
			inside = true
		case line == end(project):
			inside = false
		case inside:
			if words := strings.Fields(line); len(words) > 1 {
				out = append(out, words[1:]...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Write changes the hosts file so that a project has these names there, and no others. It
// reports whether anything was changed.
func Write(path, project string, names []string) (bool, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return false, err
	}
	text, err := With(string(b), project, names)
	if err != nil || text == string(b) {
		return false, err
	}
	if changed, err := atomicfile.Swap(path, []byte(text), b, 0o644); err == nil {
		return changed, nil
	}
	// In a container the file can't be replaced, only written.
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		return false, err
	}
	if _, err := f.WriteString(text); err != nil {
		f.Close()
		return false, err
	}
	return true, f.Close()
}

// Unresolved returns those of the names that this machine's resolver does not lead to its
// loopback addresses, sorted. Browsers do so by themselves with names below localhost (RFC
// 6761, section 6.3); the resolvers of many systems do not.
func Unresolved(ctx context.Context, names []string) []string {
	file, _ := os.ReadFile(File) // which the resolver may remember as it was
	known := Loopback(string(file))
	// A resolver knows all names below localhost or none, and is asked for one of them.
	var ask, below []string
	for _, name := range names {
		switch {
		case known[name]:
		case strings.HasSuffix(name, ".localhost"):
			below = append(below, name)
		default:
			ask = append(ask, name)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 500*time.Millisecond)
	defer cancel()
	var mu sync.Mutex
	var out []string
	var all sync.WaitGroup
	limit := make(chan struct{}, 8)
	lookUp := func(ctx context.Context, name string, stands []string) {
		all.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			if !local(ctx, name) {
				mu.Lock()
				defer mu.Unlock()
				out = append(out, stands...)
			}
		})
	}
	if len(below) > 0 {
		soon, cancel := context.WithTimeout(ctx, 100*time.Millisecond) // who knows it asks nobody
		defer cancel()
		lookUp(soon, below[0], below)
	}
	for _, name := range ask {
		lookUp(ctx, name, []string{name})
	}
	all.Wait()
	slices.Sort(out)
	return out
}

// local reports whether the resolver leads a name to a loopback address.
func local(ctx context.Context, name string) bool {
	addresses, err := net.DefaultResolver.LookupHost(ctx, name)
	return err == nil && slices.ContainsFunc(addresses, func(text string) bool {
		a, err := netip.ParseAddr(text)
		return err == nil && a.IsLoopback()
	})
}

// Loopback returns the names that a hosts file leads to the loopback interface.
func Loopback(file string) map[string]bool {
	out := map[string]bool{}
	for line := range strings.Lines(file) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		if a, err := netip.ParseAddr(words[0]); err == nil && a.IsLoopback() {
			for _, name := range words[1:] {
				out[strings.ToLower(name)] = true
			}
		}
	}
	return out
}
