package launch

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"sync"
	"time"

	"neighbour/internal/core/record/journal"
)

// logMatch is the check that waits for a line of output.
type logMatch struct {
	declared string
	pattern  *journal.Pattern

	mu    sync.Mutex
	found bool
	seen  chan struct{} // closed when it is found
}

// matchWait is how long one check waits for the line.
const matchWait = 50 * time.Millisecond

// newLogMatch makes the check for a declared expression.
func newLogMatch(declared *regexp.Regexp) *logMatch {
	p, err := journal.Expression(declared.String())
	if err != nil {
		panic(err) // it was compiled before
	}
	return &logMatch{declared: declared.String(), pattern: p, seen: make(chan struct{})}
}

func (m *logMatch) reset() {
	m.mu.Lock()
	m.found, m.seen = false, make(chan struct{})
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
	if m.pattern == nil || m.pattern.Matches(lines) {
		m.found = true
		close(m.seen)
	}
}

// Check waits a moment for the line, so that it is known as soon as it comes.
func (m *logMatch) Check(ctx context.Context) (string, error) {
	m.mu.Lock()
	found, seen := m.found, m.seen
	m.mu.Unlock()
	if !found {
		timer := time.NewTimer(matchWait)
		defer timer.Stop()
		select {
		case <-seen:
		case <-ctx.Done():
			return "", ctx.Err()
		case <-timer.C:
			return "", fmt.Errorf("no line matches %s yet", m.declared)
		}
	}
	return "a line matched " + m.declared, nil
}
