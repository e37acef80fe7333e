// Package errand keeps what became of the one-off commands of a project: when
// each was run, by whom, how it ended, and what it printed. A run is written by
// the process that runs it, be it the keeper or a command in a terminal, so that
// it is known whatever else ends.
package errand

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/proc"
)

// Result is how a run ended.
type Result string

// The results.
const (
	UnderWay  Result = "under way"
	OK        Result = "ok"
	Failed    Result = "failed"
	Cancelled Result = "cancelled"
	Lost      Result = "lost" // whoever ran it was killed
)

// Run is one run of an errand.
type Run struct {
	ID     int64     `json:"id"`
	Errand string    `json:"errand"`
	Args   []string  `json:"args,omitempty"`
	By     string    `json:"by"` // who asked for it
	Began  time.Time `json:"began"`
	Took   float64   `json:"took_ms"` // in milliseconds; 0 while it is under way
	Result Result    `json:"result"`
	// Exit says how it ended: "exit 1"; "" while it is under way.
	Exit string `json:"exit,omitempty"`
	// Line is the line of its output that says why it failed, else its newest.
	Line string `json:"line,omitempty"`
	// Unkept says that what it printed went to the terminal alone.
	Unkept bool `json:"unkept,omitempty"`
	// Runner is the process that writes this, Process the command's.
	Runner  proc.ID `json:"runner"`
	Process proc.ID `json:"process,omitzero"`
	// Copy is the fresh copy of the project that it ran on, "" for the project itself.
	Copy string `json:"copy,omitempty"`
}

const (
	// mostRuns is how many runs of an errand are kept.
	mostRuns = 30
	// mostBytes is how much of a run's output is kept, in bytes.
	mostBytes = 1 << 20
)

// Store keeps the runs of a project in a folder. Its methods may be called
// concurrently, and by several processes.
type Store struct{ dir string }

// NewStore returns the store in a folder, which is made when it is needed.
func NewStore(dir string) *Store { return &Store{dir} }

func (s *Store) file(id int64) string   { return filepath.Join(s.dir, fmt.Sprintf("%019d.json", id)) }
func (s *Store) output(id int64) string { return filepath.Join(s.dir, fmt.Sprintf("%019d.out", id)) }

// Recording is a run under way.
type Recording struct {
	store *Store
	out   *limited

	mu  sync.Mutex
	run Run
}

// Begin begins to record a run. What is written to it is kept as its output.
func (s *Store) Begin(r Run) (*Recording, error) {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	// Nothing is written through a link.
	if info, err := os.Lstat(s.dir); err != nil || !info.IsDir() {
		return nil, errors.Join(err, fmt.Errorf("%s is no folder but leads elsewhere; remove it", s.dir))
	}
	me, err := proc.Identify(os.Getpid())
	if err != nil {
		return nil, err
	}
	r.Began, r.Result, r.Runner = time.Now(), UnderWay, me
	var f *os.File
	for r.ID = r.Began.UnixMicro(); ; r.ID++ { // two may begin at once
		if f, err = os.OpenFile(s.output(r.ID), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600); err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
	}
	rec := &Recording{store: s, run: r, out: &limited{f: f}}
	return rec, rec.save()
}

func (r *Recording) save() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	b, err := json.Marshal(r.run)
	if err != nil {
		return err
	}
	return atomicfile.Write(r.store.file(r.run.ID), b, 0o600)
}

// Run returns the run as it is.
func (r *Recording) Run() Run {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.run
}

// Write keeps output of the command.
func (r *Recording) Write(b []byte) (int, error) { return r.out.Write(b) }

// Started notes the command's process.
func (r *Recording) Started(id proc.ID) error {
	r.mu.Lock()
	r.run.Process = id
	r.mu.Unlock()
	return r.save()
}

// Cancelled notes that the command was told to end.
func (r *Recording) Cancelled() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.run.Result = Cancelled
}

// End ends the record. Line is what of its output tells most.
func (r *Recording) End(ok bool, exit, line string) (Run, error) {
	r.mu.Lock()
	r.run.Took, r.run.Exit, r.run.Line = max(0.001, float64(time.Since(r.run.Began).Microseconds())/1000), exit, line
	switch {
	case r.run.Result == Cancelled || r.store.cancelled(r.run.ID):
		r.run.Result = Cancelled
	case ok:
		r.run.Result = OK
	default:
		r.run.Result = Failed
	}
	run := r.run
	r.mu.Unlock()
	err := errors.Join(r.out.Close(), r.save())
	_ = os.Remove(r.store.file(run.ID) + ".cancel")
	return run, errors.Join(err, r.store.prune(run.Errand))
}

// Runs returns the latest runs of an errand, or of all for "", the newest last.
func (s *Store) Runs(name string, n int) ([]Run, error) {
	entries, err := os.ReadDir(s.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Run
	for _, e := range slices.Backward(entries) {
		if len(out) == n {
			break
		}
		id, ok := strings.CutSuffix(e.Name(), ".json")
		number, err := strconv.ParseInt(id, 10, 64)
		if !ok || err != nil {
			continue
		}
		if r, err := s.Run(number); err == nil && (name == "" || r.Errand == name) {
			out = append(out, r)
		}
	}
	slices.Reverse(out)
	return out, nil
}

// ErrNone says that there is no such run.
var ErrNone = errors.New("there is no such run of an errand")

// Run returns a run; ErrNone if there is none of this number.
func (s *Store) Run(id int64) (Run, error) {
	var r Run
	b, err := os.ReadFile(s.file(id))
	if err != nil {
		return r, ErrNone
	}
	if json.Unmarshal(b, &r) != nil || r.ID != id {
		return r, ErrNone
	}
	if r.Result == UnderWay && !r.Runner.Alive() {
		r.Result, r.Exit = Lost, "nobody saw how it ended"
		if r.Process.Alive() {
			r.Exit = fmt.Sprintf("whoever ran it was killed; its process goes on, pid %d", r.Process.PID)
		}
	}
	return r, nil
}

// Output returns what a run has printed from a place on, and the place after it.
// It is at most as much as is kept.
func (s *Store) Output(id, from int64) ([]byte, int64, error) {
	f, err := os.Open(s.output(id))
	if err != nil {
		return nil, 0, ErrNone
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	if from < 0 || from > info.Size() { // it was shortened meanwhile
		from = 0
	}
	b, err := io.ReadAll(io.NewSectionReader(f, from, mostBytes+1<<16))
	return b, from + int64(len(b)), err
}

// Cancel has the process that runs an errand end it: it gets SIGTERM, and passes
// that on. It does nothing if the run has ended.
func (s *Store) Cancel(id int64) error {
	r, err := s.Run(id)
	if err != nil || r.Result != UnderWay {
		return err
	}
	if err := os.WriteFile(s.file(id)+".cancel", nil, 0o600); err != nil {
		return err
	}
	return proc.Ask(r.Runner, "TERM")
}

// cancelled reports whether somebody asked the run to end.
func (s *Store) cancelled(id int64) bool {
	_, err := os.Stat(s.file(id) + ".cancel")
	return err == nil
}

// prune deletes the oldest runs of an errand when there are too many.
func (s *Store) prune(name string) error {
	all, err := s.Runs(name, 1<<30)
	if err != nil {
		return err
	}
	for len(all) > mostRuns {
		if all[0].Result != UnderWay {
			_ = os.Remove(s.output(all[0].ID))
			_ = os.Remove(s.file(all[0].ID))
		}
		all = all[1:]
	}
	return nil
}

// limited writes to a file of which only the end is kept when it becomes too
// long.
type limited struct {
	mu     sync.Mutex
	f      *os.File
	size   int64
	closed bool
}

const leftOut = "… what was printed before is left out\n"

func (l *limited) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return len(b), nil
	}
	written := len(b)
	if len(b) > mostBytes/2 {
		b = b[len(b)-mostBytes/2:]
	}
	if l.size+int64(len(b)) > mostBytes {
		tail := make([]byte, mostBytes/2)
		n, err := l.f.ReadAt(tail, max(0, l.size-int64(len(tail))))
		if err != nil && err != io.EOF {
			return 0, err
		}
		tail = tail[:n]
		if i := bytes.IndexByte(tail, '\n'); i >= 0 {
			tail = tail[i+1:]
		}
		tail = append([]byte(leftOut), tail...)
		if err := l.f.Truncate(0); err != nil {
			return 0, err
		}
		if _, err := l.f.WriteAt(tail, 0); err != nil {
			return 0, err
		}
		l.size = int64(len(tail))
	}
	n, err := l.f.WriteAt(b, l.size)
	l.size += int64(n)
	if err != nil {
		return n, err
	}
	return written, nil
}

func (l *limited) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	return l.f.Close()
}
