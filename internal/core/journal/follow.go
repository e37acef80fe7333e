package journal

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Follower reads the logs of a folder as they grow.
type Follower struct {
	watcher *fsnotify.Watcher
	files   map[string]*followed // by path
	emit    func(service string, lines []Line)
	// Stamp makes the follower keep the files of times. Of several followers
	// of a folder only the keeper's does.
	stamp bool
}

type followed struct {
	service string
	offset  int64 // read so far
	pending []byte
	stamped time.Time
}

// pendingLimit bounds how much of a line is held while its end is awaited.
const pendingLimit = 1 << 20

// gather is how long a change waits for more before it is read.
const gather = 10 * time.Millisecond

// Follow begins to follow the logs of the named services in a folder, each
// from its present end. Run delivers the lines to emit, from one goroutine.
// With stamp it keeps the times of the lines.
func Follow(dir string, services []string, stamp bool, emit func(service string, lines []Line)) (*Follower, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("the logs can't be followed: %w", err)
	}
	if err := w.Add(dir); err != nil {
		w.Close()
		return nil, fmt.Errorf("the logs can't be followed: %w", err)
	}
	f := &Follower{watcher: w, files: map[string]*followed{}, emit: emit, stamp: stamp}
	for _, s := range services {
		path := filepath.Join(dir, s+".log")
		size := Size(path)
		file := &followed{service: s, offset: size}
		f.files[path] = file
		if stamp {
			// Lines that came while no keeper was there are new to us.
			times, err := readTimes(path)
			if err == nil && size > 0 && (len(times) == 0 || times[len(times)-1].Offset < size) {
				if info, err := os.Stat(path); err == nil {
					last := int64(0)
					if len(times) > 0 {
						last = times[len(times)-1].Offset + 1
					}
					_ = appendTime(path, stampAt(last, info.ModTime()))
				}
			}
		}
	}
	return f, nil
}

func stampAt(offset int64, at time.Time) stamp { return stamp{offset, at.UnixMilli()} }

// Run follows until the context ends.
func (f *Follower) Run(ctx context.Context) {
	defer f.watcher.Close()
	dirty := map[string]bool{}
	var wait <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			for path := range f.files {
				f.read(path)
			}
			return
		case e, ok := <-f.watcher.Events:
			if !ok {
				return
			}
			if _, ours := f.files[e.Name]; ours {
				dirty[e.Name] = true
				if wait == nil {
					wait = time.After(gather)
				}
			}
		case _, ok := <-f.watcher.Errors:
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
		case <-wait:
			wait = nil
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
	if info, err := in.Stat(); err != nil || info.Size() < file.offset {
		file.offset, file.pending = 0, nil // a new file
	}
	buffer := make([]byte, 256<<10)
	for {
		n, err := in.ReadAt(buffer, file.offset)
		if n > 0 {
			f.deliver(path, file, buffer[:n])
		}
		if err == io.EOF || n == 0 {
			return
		}
	}
}

func (f *Follower) deliver(path string, file *followed, data []byte) {
	now := time.Now()
	if f.stamp && now.Sub(file.stamped) >= gather {
		// Without its time a line is still a line.
		_ = appendTime(path, stampAt(file.offset-int64(len(file.pending)), now))
		file.stamped = now
	}
	start := file.offset - int64(len(file.pending))
	file.offset += int64(len(data))
	lines, rest := split(append(file.pending, data...), start)
	if len(rest) > pendingLimit { // no newline in sight: it counts as a line
		lines = append(lines, Line{Offset: file.offset - int64(len(rest)), Text: text(rest)})
		rest = nil
	}
	file.pending = append([]byte(nil), rest...)
	for i := range lines {
		lines[i].At = now
	}
	if len(lines) > 0 {
		f.emit(file.service, lines)
	}
}
