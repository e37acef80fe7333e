// Package journal reads and follows the log files that services write their
// output to. Beside each it keeps a file of times, since the lines themselves
// have none: which part of the log was there when.
package journal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"sort"
	"strings"
	"time"
)

// Line is a line of a service's output.
type Line struct {
	At     time.Time `json:"at"`     // when it was seen; zero if unknown
	Offset int64     `json:"offset"` // where it begins in the file, in bytes
	Text   string    `json:"text"`   // as the service wrote it, without the line's end
}

// lineLimit is how many bytes of a line are kept; more would only be cut off
// by any screen.
const lineLimit = 16 << 10

// rotateAt is the size at which a log file is put aside before a start.
const rotateAt = 20 << 20

// Open opens a service's log for a process to append to. A large one is put
// aside first, under the same name with .1.
func Open(path string) (*os.File, error) {
	if info, err := os.Stat(path); err == nil && info.Size() > rotateAt {
		for _, p := range []string{path, timesPath(path)} {
			if err := os.Rename(p, p+".1"); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, fmt.Errorf("the log can't be put aside: %w", err)
			}
		}
	}
	return os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
}

// Size is the length of a log, 0 if there is none.
func Size(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// Tail returns the last n lines that begin before the offset; a negative
// offset means the end of the log. A log that isn't there has no lines.
func Tail(path string, before int64, n int) ([]Line, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if before < 0 || before > info.Size() {
		before = info.Size()
	}
	const chunk = 64 << 10
	start, data := before, []byte{}
	for start > 0 && bytes.Count(data, []byte{'\n'}) <= n {
		from := max(0, start-chunk)
		part := make([]byte, start-from)
		if _, err := f.ReadAt(part, from); err != nil && err != io.EOF {
			return nil, err
		}
		data = append(part, data...)
		start = from
	}
	if start > 0 { // the first line may be cut
		cut := bytes.IndexByte(data, '\n') + 1
		data, start = data[cut:], start+int64(cut)
	}
	lines, rest := split(data, start)
	if len(rest) > 0 {
		lines = append(lines, Line{Offset: before - int64(len(rest)), Text: text(rest)})
	}
	if len(lines) > n {
		lines = lines[len(lines)-n:]
	}
	times, err := readTimes(path)
	if err != nil {
		return nil, err
	}
	for i := range lines {
		lines[i].At = times.at(lines[i].Offset)
	}
	return lines, nil
}

// split cuts data, which begins at the offset, into its complete lines and
// the rest.
func split(data []byte, offset int64) (lines []Line, rest []byte) {
	for {
		end := bytes.IndexByte(data, '\n')
		if end < 0 {
			return lines, data
		}
		lines = append(lines, Line{Offset: offset, Text: text(data[:end])})
		offset += int64(end) + 1
		data = data[end+1:]
	}
}

func text(b []byte) string {
	b = bytes.TrimSuffix(b, []byte{'\r'})
	if len(b) > lineLimit {
		b = b[:lineLimit]
	}
	return strings.ToValidUTF8(string(b), "\uFFFD")
}

// stamp says that all of a log from the offset on was seen at a time, up to
// the next stamp's offset.
type stamp struct {
	Offset, Millis int64
}

type stamps []stamp

func (s stamps) at(offset int64) time.Time {
	i := sort.Search(len(s), func(i int) bool { return s[i].Offset > offset })
	if i == 0 {
		return time.Time{}
	}
	return time.UnixMilli(s[i-1].Millis)
}

func timesPath(path string) string { return strings.TrimSuffix(path, ".log") + ".times" }

func readTimes(path string) (stamps, error) {
	b, err := os.ReadFile(timesPath(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s := make(stamps, len(b)/16)
	for i := range s {
		s[i].Offset = int64(binary.LittleEndian.Uint64(b[16*i:]))
		s[i].Millis = int64(binary.LittleEndian.Uint64(b[16*i+8:]))
	}
	return s, nil
}

func appendTime(path string, s stamp) error {
	f, err := os.OpenFile(timesPath(path), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	var b [16]byte
	binary.LittleEndian.PutUint64(b[:], uint64(s.Offset))
	binary.LittleEndian.PutUint64(b[8:], uint64(s.Millis))
	_, err = f.Write(b[:])
	return errors.Join(err, f.Close())
}

// Merge puts the lines of several services in the order of their times.
func Merge(byService map[string][]Line) []Entry {
	var all []Entry
	for service, lines := range byService {
		for _, l := range lines {
			all = append(all, Entry{service, l})
		}
	}
	slices.SortStableFunc(all, func(a, b Entry) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		if c := strings.Compare(a.Service, b.Service); c != 0 {
			return c
		}
		return int(a.Offset - b.Offset)
	})
	return all
}

// Entry is a line with the service that wrote it.
type Entry struct {
	Service string `json:"service"`
	Line
}

// searchBlock is how many lines Search reads at a time.
const searchBlock = 2000

// Search returns the last n lines that are wanted, reading from the end.
func Search(path string, n int, wanted func(Line) bool) ([]Line, error) {
	var found []Line
	before := int64(-1)
	for len(found) < n {
		lines, err := Tail(path, before, searchBlock)
		if err != nil {
			return nil, err
		}
		for i := len(lines) - 1; i >= 0 && len(found) < n; i-- {
			if wanted(lines[i]) {
				found = append(found, lines[i])
			}
		}
		if len(lines) == 0 || lines[0].Offset == 0 {
			break
		}
		before = lines[0].Offset
	}
	slices.Reverse(found)
	return found, nil
}
