package journal

import (
	"context"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// causeLimit is how long a line of a cause may be, in bytes.
const causeLimit = 200

// causeEntries is how many entries are looked through for a cause.
const causeEntries = 200

// causes are how lines look that say why a program failed, the surest first:
// an exception with its message, what runtimes and servers say when they give
// up, and the words of the system for what is most often missing.
var causes = []*lazyregexp.Regexp{
	lazyregexp.New(`^(?:\S+: )?(?:[A-Za-z_$][\w$]*[.:\\]+)*[A-Z]\w*(?:Error|Exception)(?: \[\w+\])?: \S`),
	lazyregexp.New(`^(?:panic: |fatal error: |PHP Fatal error: |PHP Parse error: |Caused by: |npm (?:ERR!|error) [A-Z])|\b(?:FATAL|EMERG|PANIC): |\[(?:emerg|crit|alert)\]`),
	lazyregexp.New(`(?i)EADDRINUSE|address already in use|cannot find module|no module named|cannot load such file|command not found|: not found$|no such file or directory|permission denied|connection refused|access denied`),
}

// Cause returns the line of a service's log, from an offset on, that says why
// the service failed: "Error: listen EADDRINUSE: address already in use
// :::4100". It returns "" if no line does, or none can be read.
func Cause(dir, service string, from int64) string {
	q := Query{Filter: Filter{Services: []string{service}}, From: Place{Log: service, Offset: from}, N: causeEntries}
	answer, err := Read(context.Background(), dir, q)
	if err != nil {
		return ""
	}
	var lines []string
	firstError := ""
	for _, e := range answer.Entries {
		if e.Event != "" {
			continue
		}
		text := strings.Split(e.Text, "\n")
		if firstError == "" && e.Level == Error {
			firstError = strings.TrimSpace(text[0])
		}
		for _, l := range text {
			if l = strings.TrimSpace(string(withoutColours([]byte(l)))); l != "" {
				lines = append(lines, l)
			}
		}
	}
	if cause := CauseOf(lines); cause != "" || strings.HasPrefix(firstError, "Traceback") {
		return cause
	}
	return shorten(firstError)
}

// CauseOf returns the line of some output that says why a program failed, "" if
// none does.
func CauseOf(lines []string) string {
	for _, c := range causes {
		for _, l := range lines {
			if c.MatchString(l) {
				return shorten(l)
			}
		}
	}
	return ""
}

// shorten cuts a line off that is too long for a sentence.
func shorten(line string) string {
	if len(line) <= causeLimit {
		return line
	}
	return strings.ToValidUTF8(line[:causeLimit], "") + " …"
}
