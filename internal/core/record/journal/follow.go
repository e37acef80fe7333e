package journal

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Follower reads the logs of a folder as they grow.
type Follower struct {
	// Keep is how much of each service's log is kept, in bytes; 0, or a service
	// that isn't named: DefaultKeep. It matters only where times are kept.
	Keep map[string]int64
	// Failed gets what could not be written beside the logs, at most once for
	// each text.
	Failed func(error)

	dir     string
	whole   map[string]func([]byte)
	watcher *fsnotify.Watcher    // nil where the system has none left: sizes are looked at
	files   map[string]*followed // by path
	emit    func(service string, lines []Line)
	// stamp makes the follower keep the files of times. Of several followers
	// of a folder only the keeper's does.
	stamp  bool
	latest int // how many lines of one reading are delivered; 0: all
	buffer []byte
	failed map[string]bool
	look   chan looking
}

type followed struct {
	service string
	offset  int64 // read so far
	pending []byte
	stamped int64 // when the newest stamp is from, in milliseconds
	begins  int64 // what was freed of it
}

// pendingLimit bounds how much of a line is held while its end is awaited.
const pendingLimit = 1 << 20

// gather is the least time between two readings: what comes meanwhile is read
// together.
const gather = 4 * time.Millisecond

// Where the system doesn't tell of changes, the logs are looked at this often,
// and this often it is asked again.
const (
	pollEvery  = 200 * time.Millisecond
	retryEvery = 30 * time.Second
)

// Follow begins to follow the logs of the named services in a folder, each
// from its present end. Run delivers the lines to emit, from one goroutine.
func Follow(dir string, services []string, emit func(service string, lines []Line)) (*Follower, error) {
	if _, err := os.Stat(dir); err != nil {
		return nil, fmt.Errorf("the logs can't be followed: %w", err)
	}
	f := &Follower{dir: dir, watcher: watch(dir), files: map[string]*followed{}, emit: emit, whole: map[string]func([]byte){}, buffer: make([]byte, 256<<10), failed: map[string]bool{}, look: make(chan looking)}
	for _, s := range services {
		path := Path(dir, s)
		f.files[path] = &followed{service: s, offset: Size(path), begins: freed(path)}
	}
	return f, nil
}

// watch returns a watcher of a folder, nil if the system has none left.
func watch(dir string) *fsnotify.Watcher {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil
	}
	if err := w.Add(dir); err != nil {
		w.Close()
		return nil
	}
	return w
}

// KeepTimes follows as Follow does and keeps the times of the lines, and the
// logs from growing too large. Of what comes at once only the latest lines
// are delivered.
func KeepTimes(dir string, services []string, latest int, emit func(service string, lines []Line)) (*Follower, error) {
	f, err := Follow(dir, services, emit)
	if err != nil {
		return nil, err
	}
	f.stamp, f.latest = true, latest
	for path, file := range f.files {
		t, err := openTimes(path)
		if err != nil {
			continue // a new one is begun
		}
		last := t.last()
		sound := t.sound(time.Now().Add(24 * time.Hour).UnixMilli())
		t.close()
		file.stamped = last.Millis
		if last.Offset > file.offset || !sound { // the log was begun anew, or the file is damaged
			_ = os.Remove(timesPath(path))
			last, file.stamped = stamp{}, 0
		}
		// Lines that came while no keeper was there are new to us.
		if info, err := os.Stat(path); err == nil && info.Size() > 0 && last.Offset < info.Size() {
			from := last.Offset + 1
			if last.Millis == 0 {
				from = 0
			}
			f.note(path, file, from, info.ModTime())
		}
	}
	return f, nil
}

// Whole makes the follower deliver all that a service prints to see, too, as
// it is written, in whole lines.
func (f *Follower) Whole(service string, see func([]byte)) { f.whole[service] = see }

// note writes down when a part of a log was seen. A clock that is set back
// doesn't turn the time line around.
func (f *Follower) note(path string, file *followed, offset int64, at time.Time) {
	file.stamped = max(file.stamped, at.UnixMilli())
	f.fail(appendTime(path, stamp{offset, file.stamped}))
}

// fail tells an error once, until there is none.
func (f *Follower) fail(err error) {
	if err == nil {
		clear(f.failed)
		return
	}
	if f.Failed != nil && !f.failed[err.Error()] {
		f.failed[err.Error()] = true
		f.Failed(err)
	}
}

// looking asks for a log to be read at once.
type looking struct {
	path string
	done chan struct{}
}

// CatchUp returns when what a service has printed so far was seen, or when the
// context ends.
func (f *Follower) CatchUp(ctx context.Context, service string) {
	l := looking{Path(f.dir, service), make(chan struct{})}
	select {
	case f.look <- l:
		<-l.done
	case <-ctx.Done():
	}
}

// Run follows until the context ends.
func (f *Follower) Run(ctx context.Context) {
	defer func() {
		if f.watcher != nil {
			f.watcher.Close()
		}
	}()
	dirty := map[string]bool{}
	var wait <-chan time.Time
	var read time.Time // the last time
	tried := time.Now()
	for {
		var events chan fsnotify.Event
		var errs chan error
		var poll <-chan time.Time
		if f.watcher != nil {
			events, errs = f.watcher.Events, f.watcher.Errors
		} else {
			poll = time.After(pollEvery)
		}
		select {
		case <-ctx.Done():
			for path := range f.files {
				f.read(path)
			}
			return
		case l := <-f.look:
			f.read(l.path)
			close(l.done)
		case e, ok := <-events:
			if !ok {
				return
			}
			if _, ours := f.files[e.Name]; ours {
				dirty[e.Name] = true
				if wait == nil {
					wait = time.After(gather - time.Since(read))
				}
			}
		case _, ok := <-errs:
			if !ok {
				return
			}
			// Events were lost: look at every file.
			for path := range f.files {
				dirty[path] = true
			}
			if wait == nil {
				wait = time.After(gather)
			}
		case <-poll:
			if time.Since(tried) > retryEvery {
				tried, f.watcher = time.Now(), watch(f.dir)
			}
			for path, file := range f.files {
				if Size(path) != file.offset {
					f.read(path)
				}
			}
		case <-wait:
			wait, read = nil, time.Now()
			for path := range dirty {
				f.read(path)
			}
			clear(dirty)
		}
	}
}

// read delivers what a log has got since the last time.
func (f *Follower) read(path string) {
	file := f.files[path]
	in, err := os.Open(path)
	if err != nil {
		return // put aside, and not made anew yet
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return
	}
	if info.Size() < file.offset { // a new file
		*file = followed{service: file.service, stamped: file.stamped}
		if f.stamp {
			_ = os.Remove(timesPath(path))
		}
	}
	if f.stamp && info.Size() > file.offset {
		f.note(path, file, file.offset-int64(len(file.pending)), time.Now())
	}
	for {
		n, err := in.ReadAt(f.buffer, file.offset)
		if n > 0 {
			f.deliver(file, f.buffer[:n])
		}
		if f.stamp {
			f.trim(path, file)
		}
		if err == io.EOF || n == 0 {
			return
		}
	}
}

// trim frees the beginning of a log that has grown too large.
func (f *Follower) trim(path string, file *followed) {
	begins, err := trim(path, file.begins, file.offset, cmp.Or(f.Keep[file.service], DefaultKeep))
	if errors.Is(err, errors.ErrUnsupported) {
		err = fmt.Errorf("the file system of %s can't free the beginning of a file, so logs are put aside only at a start: %w", f.dir, err)
		begins = file.offset // not again so soon
	}
	if err != nil {
		f.fail(err)
	}
	file.begins = begins
}

// line makes a line. Where all are delivered, who gets them reads them.
func (f *Follower) line(at time.Time, offset int64, b []byte) Line {
	if f.latest > 0 {
		return newLine(at, offset, b)
	}
	return Line{At: at, Offset: offset, Text: text(b)}
}

func (f *Follower) deliver(file *followed, data []byte) {
	now := time.Now()
	start := file.offset - int64(len(file.pending))
	file.offset += int64(len(data))
	if len(file.pending) > 0 {
		data = append(file.pending, data...)
	}
	end := bytes.LastIndexByte(data, '\n') + 1
	whole, rest := data[:end], data[end:]
	var lines []Line
	if see := f.whole[file.service]; see != nil && end > 0 {
		see(whole)
	}
	if f.latest > 0 {
		from := end
		for n := 0; from > 0 && n < f.latest; n++ {
			from = bytes.LastIndexByte(data[:from-1], '\n') + 1
		}
		whole, start = data[from:end], start+int64(from)
	}
	for len(whole) > 0 {
		line, more, _ := bytes.Cut(whole, []byte{'\n'})
		lines = append(lines, f.line(now, start, line))
		start += int64(len(line)) + 1
		whole = more
	}
	if len(rest) > pendingLimit { // no newline in sight: it counts as a line
		lines = append(lines, f.line(now, file.offset-int64(len(rest)), rest))
		rest = nil
	}
	file.pending = append(file.pending[:0:0], rest...)
	if len(lines) > 0 {
		f.emit(file.service, lines)
	}
}
