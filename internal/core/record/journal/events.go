package journal

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// Notes is the log of events of a project, for one keeper to write to.
type Notes struct {
	mu   sync.Mutex
	path string
	last int64
}

func eventsPath(dir string) string { return filepath.Join(dir, "keeper.events") }

// keepEvents is how much of the events is kept, in bytes.
const keepEvents = 10 << 20

// OpenNotes opens the log of events in a folder.
func OpenNotes(dir string) *Notes {
	n := &Notes{path: eventsPath(dir)}
	if t, err := openTimes(n.path); err == nil {
		n.last = t.last().Millis
		t.close()
	}
	return n
}

// Note writes down an event of a service, "" for the project.
func (n *Notes) Note(service, event string, level Level, text string) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	now := time.Now()
	b, err := json.Marshal(noted{At: now, Service: service, Event: event, Level: level, Text: text})
	if err != nil {
		return err
	}
	f, err := os.OpenFile(n.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	n.last = max(n.last, now.UnixMilli())
	size := Size(n.path)
	if err := appendTime(n.path, stamp{size, n.last}); err != nil {
		return err
	}
	if _, err := f.Write(append(b, '\n')); err != nil {
		return err
	}
	if size > keepEvents {
		_, err = trim(n.path, freed(n.path), size, keepEvents)
	}
	return err
}
