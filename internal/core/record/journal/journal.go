// Package journal reads and follows the log files that services write their
// output to. Beside each it keeps an index of times, since most lines have
// none: which part of the log was there when. From many logs it makes one
// time line, of entries with their time and level, filtered and searched.
package journal

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Line is a line of a service's output.
type Line struct {
	At     time.Time `json:"at"`     // when it was seen; zero if unknown
	Offset int64     `json:"offset"` // where it begins in the file, in bytes
	Text   string    `json:"text"`   // as the service wrote it, without the line's end
	// Level is what the line says of itself, and Message is it without time and
	// level; both are empty where it doesn't say.
	Level   Level  `json:"level,omitempty"`
	Message string `json:"message,omitempty"`
}

// newLine makes a line of what was written.
func newLine(at time.Time, offset int64, b []byte) Line {
	l := Line{At: at, Offset: offset, Text: text(b)}
	if s := recognise(l.Text); s.level != None || !s.at.IsZero() {
		l.Level, l.Message = s.level, strings.TrimSpace(s.message+"  "+s.fields)
	}
	return l
}

// lineLimit is how many bytes of a line are kept; more would only be cut off
// by any screen.
const lineLimit = 16 << 10

// A log is freed from its beginning, in parts, as it grows: offsets stay what
// they are, nothing is copied, and the service that writes to it notices
// nothing.
const (
	// DefaultKeep is how much of a log is kept, in bytes.
	DefaultKeep = 5 * partOf
	// partOf is the size of a part of the usual log.
	partOf = 20 << 20
	// parts is in how many parts a log is freed.
	parts = 5
)

// Path returns where a service's log is.
func Path(dir, service string) string { return filepath.Join(dir, service+".log") }

// Open opens a service's log for a process to append to. Of what is there,
// keep bytes stay (0: DefaultKeep). Where the beginning of a file can't be
// freed, one that is too large is put aside, under the same name with .1.
func Open(path string, keep int64) (*os.File, error) {
	if _, err := trim(path, freed(path), Size(path), cmp.Or(keep, DefaultKeep)); errors.Is(err, errors.ErrUnsupported) {
		for _, p := range []string{path, timesPath(path)} {
			if err := os.Rename(p, p+".1"); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, fmt.Errorf("the log can't be put aside: %w", err)
			}
		}
	}
	return os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
}

// Size returns the length of a log, 0 if there is none. What was freed at its
// beginning counts.
func Size(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// trim frees the beginning of a log of which more than keep bytes are there,
// down to whole parts, and returns where it begins now.
func trim(path string, begins, size, keep int64) (int64, error) {
	if size-begins <= keep {
		return begins, nil
	}
	part := max(1<<20, keep/parts)
	to := (size - keep + part) &^ (1<<20 - 1)
	if err := free(path, to); err != nil {
		return begins, err
	}
	return to, dropTimes(path, to)
}

// Last returns the last n lines of a log. A log that isn't there has none.
func Last(path string, n int) ([]Line, error) {
	l, err := openLog(path)
	if l == nil {
		return nil, err
	}
	defer l.close()
	var lines []Line
	for i := l.lastChunk(); i >= l.firstChunk() && len(lines) < n; i-- {
		c, err := l.read(i, nil)
		if err != nil {
			return nil, err
		}
		lines = append(c.lines(), lines...)
	}
	return lines[max(0, len(lines)-n):], nil
}

// text returns a line as it is kept: valid, and not longer than is of use.
func text(b []byte) string {
	b = bytes.TrimSuffix(b, []byte{'\r'})
	if len(b) > lineLimit {
		b = b[:lineLimit]
	}
	return strings.ToValidUTF8(string(b), "\uFFFD")
}
