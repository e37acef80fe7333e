package keep

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"sync"

	"neighbour/internal/core/journal"
)

// logMatch is the check that waits for a line of output.
type logMatch struct {
	declared string
	pattern  *journal.Pattern

	mu    sync.Mutex
	found bool
}

// newLogMatch makes the check for a declared expression.
func newLogMatch(declared *regexp.Regexp) *logMatch {
	p, err := journal.Expression(declared.String())
	if err != nil {
		panic(err) // it was compiled before
	}
	return &logMatch{declared: declared.String(), pattern: p}
}

func (m *logMatch) reset() {
	m.mu.Lock()
	m.found = false
	m.mu.Unlock()
}

// see looks at lines that were printed.
func (m *logMatch) see(lines []byte) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.found {
		return
	}
	if bytes.IndexByte(lines, '\r') >= 0 {
		lines = bytes.ReplaceAll(lines, []byte("\r\n"), []byte("\n"))
	}
	m.found = m.pattern == nil || m.pattern.Matches(lines)
}

func (m *logMatch) Check(context.Context) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.found {
		return "", fmt.Errorf("no line matches %s yet", m.declared)
	}
	return "a line matched " + m.declared, nil
}
