package journal

import (
	"context"
	"fmt"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// headLines is how many lines of an entry that is an error are told.
const headLines = 3

// Telling returns about n lines of a service's log, from an offset on, that
// tell most of how it came to its end: the first error and the latest lines,
// of long entries only the beginning.
func Telling(dir, service string, from int64, n int) ([]string, error) {
	q := Query{Filter: Filter{Services: []string{service}}, From: Place{Log: service, Offset: from}, N: causeEntries}
	latest, err := Read(context.Background(), dir, q)
	if err != nil {
		return nil, err
	}
	latest.Entries = withoutHelp(latest.Entries)
	latest.Entries = latest.Entries[max(0, len(latest.Entries)-n):]
	q.Level, q.N, q.Oldest = Error, 1, true
	first, err := Read(context.Background(), dir, q)
	if err != nil {
		return nil, err
	}
	var out []string
	if len(first.Entries) > 0 && len(latest.Entries) > 0 && first.Entries[0].Place.Offset < latest.Entries[0].Place.Offset {
		out = append(beginning(first.Entries[0].Text, headLines), "…")
		latest.Entries = latest.Entries[min(len(latest.Entries), 2):]
	}
	for _, e := range latest.Entries {
		most := 1
		if e.Level == Error || len(latest.Entries) < 3 {
			most = headLines
		}
		out = append(out, beginning(e.Text, most)...)
	}
	return out, nil
}

// beginning returns the first lines of a text, with how many there are more.
func beginning(text string, n int) []string {
	lines := strings.Split(text, "\n")
	if len(lines) <= n+1 {
		return lines
	}
	return append(lines[:n:n], fmt.Sprintf("    … %d more lines", len(lines)-n))
}

var (
	// usage is how the help begins that programs print after what was wrong.
	usage = lazyregexp.New(`(?i)^(?:npm (?:ERR!|error)\s+)?(?:usage|options):`)
	// empty is a line that says nothing.
	empty = lazyregexp.New(`^(?:npm (?:ERR!|error))?\s*$|^npm (?:ERR!|error) A complete log of this run`)
)

// withoutHelp leaves out what says nothing of why a program failed: the help that follows the
// reason, and empty lines.
func withoutHelp(all []Entry) []Entry {
	var out []Entry
	for _, e := range all {
		text := string(withoutColours([]byte(e.Text)))
		if len(out) > 0 && usage.MatchString(text) {
			break
		}
		if !empty.MatchString(text) {
			out = append(out, e)
		}
	}
	return out
}
