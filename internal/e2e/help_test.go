package e2e

import (
	"bytes"
	"strconv"
	"sync"
)

func itoa(n int) string { return strconv.Itoa(n) }

// safeBuffer is a buffer that a process writes while a test reads it.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
