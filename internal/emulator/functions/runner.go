package functions

import (
	"bufio"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

//go:embed runners
var runners embed.FS

// language is how a runner is run.
type language struct {
	program []string // its names, the first that is there is taken
	file    string
	options []string // before the file
}

var known = map[string]language{
	"node":   {[]string{"node"}, "node.mjs", []string{"--no-warnings"}},
	"python": {[]string{"python3", "python"}, "python.py", []string{"-u"}},
	"php":    {[]string{"php"}, "php.php", []string{"-d", "display_startup_errors=0"}},
}

// Programs returns the names of the program that a language's runner runs on.
func Programs(name string) []string { return known[name].program }

// writeRunners writes the runners into a folder.
func writeRunners(dir string) error {
	// What compilers made for runners that were killed.
	if err := os.RemoveAll(filepath.Join(dir, "typescript")); err != nil {
		return err
	}
	for _, l := range known {
		b, err := runners.ReadFile("runners/" + l.file)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, l.file), b, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// thrown is an error of a function's own, as its language tells it.
type thrown struct {
	Message string `json:"message"`
	Stack   string `json:"stack"`
}

func (t *thrown) Error() string { return t.Message }

// head is what stands before a body on the way to a runner or from it, as a line of JSON.
type head struct {
	ID      int64       `json:"id"`
	Method  string      `json:"method,omitempty"`
	URL     string      `json:"url,omitempty"`
	Path    string      `json:"path"`
	Headers [][2]string `json:"headers"`
	Body    int64       `json:"body"`

	Status int     `json:"status,omitempty"`
	Ready  bool    `json:"ready,omitempty"`
	Failed *thrown `json:"failed,omitempty"`
	Error  *thrown `json:"error,omitempty"`
	Ended  bool    `json:"ended,omitempty"` // with it the process ends
}

// runner is a process in which a module is loaded. It is used by one call at a time.
type runner struct {
	*process
	round int // of the files, when it was started
	in    *os.File
	out   *bufio.Reader
	rest  io.Closer
	used  time.Time
	// calls gets what is printed, while a call is under way.
	call  atomic.Pointer[call]
	marks chan struct{}
	over  atomic.Uint64 // the memory that was too much
}

// answerTime is for how long the answers of a process that has ended can be read.
const answerTime = 10 * time.Second

// errNoRunner says that what a function runs on is missing.
type errNoRunner struct{ program string }

func (e *errNoRunner) Error() string {
	return e.program + " is not installed, or not in the PATH of the service"
}

// startRunner starts a process with a function's module, and returns when it is loaded.
func (s *Server) startRunner(ctx context.Context, f *function, round int, c *call) (*runner, error) {
	l := known[f.language]
	program, err := "", error(nil)
	for _, p := range l.program {
		if program, err = exec.LookPath(p); err == nil {
			break
		}
	}
	if err != nil {
		return nil, &errNoRunner{l.program[0]}
	}
	requests, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	out, answers, err := os.Pipe()
	if err != nil {
		requests.Close()
		in.Close()
		return nil, err
	}
	defer requests.Close()
	defer answers.Close()
	cmd := exec.Command(program, append(append(l.options[:len(l.options):len(l.options)], filepath.Join(s.run, l.file)), f.file, f.name)...)
	cmd.Dir = filepath.Dir(f.file)
	cmd.Env = environment()
	cmd.ExtraFiles = []*os.File{requests, answers}
	r := &runner{round: round, in: in, out: bufio.NewReaderSize(out, 64<<10), rest: out, marks: make(chan struct{}, 2), used: time.Now()}
	r.call.Store(c)
	stdout, err1 := cmd.StdoutPipe()
	stderr, err2 := cmd.StderrPipe()
	if err := errors.Join(err1, err2); err != nil {
		in.Close()
		out.Close()
		return nil, err
	}
	if r.process, err = start(cmd); err != nil {
		in.Close()
		out.Close()
		return nil, err
	}
	var reading sync.WaitGroup
	for _, from := range []io.Reader{stdout, stderr} {
		reading.Go(func() {
			readLines(from, func(line string) {
				if c := r.call.Load(); c != nil {
					c.printed(line)
				} else { // it goes on between calls
					s.Log.Printf("%s: %s", f.name, line)
				}
			}, func() {
				select {
				case r.marks <- struct{}{}:
				default:
				}
			})
		})
	}
	go func() {
		_ = cmd.Wait()
		r.release()
		close(r.done)
		// A process that it has left behind can hold its output open.
		r.process.end()
		_ = in.Close()
		// What it answered last may not have been read yet.
		time.AfterFunc(answerTime, func() { _ = out.Close() })
	}()
	if f.Memory > 0 {
		go r.watch(f.Memory, func(used uint64) { r.over.Store(used) })
	}
	h, err := r.await(ctx)
	switch {
	case err != nil:
		r.end()
		return nil, err
	case h.Failed != nil:
		r.end()
		return nil, h.Failed
	}
	return r, nil
}

// await reads the next answer's head; the context's end ends the runner.
func (r *runner) await(ctx context.Context) (head, error) {
	stop := context.AfterFunc(ctx, r.end)
	defer stop()
	line, err := r.out.ReadBytes('\n')
	var h head
	if err == nil {
		err = json.Unmarshal(line, &h)
	}
	if err != nil {
		if ctx.Err() != nil {
			return h, ctx.Err()
		}
		r.end()
		_ = r.rest.Close()
		return h, errEnded
	}
	return h, nil
}

// errEnded says that a runner has ended in the midst of a call.
var errEnded = errors.New("its process has ended")

// send has the runner make a call, and returns the head of the answer, whose body is next.
func (r *runner) send(ctx context.Context, h head, body []byte) (head, error) {
	b, err := json.Marshal(h)
	if err != nil {
		return h, err
	}
	stop := context.AfterFunc(ctx, r.end)
	_, err = r.in.Write(append(append(b, '\n'), body...))
	stop()
	if err != nil {
		if ctx.Err() != nil {
			return h, ctx.Err()
		}
		return h, errEnded
	}
	return r.await(ctx)
}

// settle waits until what was printed before an answer is read.
func (r *runner) settle() {
	timer := time.NewTimer(100 * time.Millisecond)
	defer timer.Stop()
	for range 2 {
		select {
		case <-r.marks:
		case <-timer.C:
			return
		}
	}
}

// pool is the runners of a function that wait for calls.
type pool struct {
	mu    sync.Mutex
	idle  []*runner
	slots chan struct{} // as many as calls may be under way
	waits atomic.Int32
}

// take returns one whose files are as they are now, nil if there is none. Those that are not
// are ended.
func (p *pool) take(round int) *runner {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.idle) > 0 {
		r := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		select {
		case <-r.done:
			continue
		default:
		}
		if r.round == round {
			return r
		}
		go r.end()
	}
	return nil
}

func (p *pool) put(r *runner) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r.used = time.Now()
	p.idle = append(p.idle, r)
}

// prune ends runners that were not needed for a while, but for one that stays warm. With all
// it ends all of them.
func (p *pool) prune(before time.Time, all bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.idle) > 1 && p.idle[0].used.Before(before) || all && len(p.idle) > 0 {
		r := p.idle[0]
		p.idle = p.idle[1:]
		if all {
			r.end()
		} else {
			go r.end()
		}
	}
}

// exitWords says how a process ended.
func exitWords(p *process) string {
	select {
	case <-p.done:
	case <-time.After(killWait):
		return "it does not end"
	}
	state := p.cmd.ProcessState
	if state == nil {
		return "it ended"
	}
	if code := state.ExitCode(); code >= 0 {
		return "exit " + strconv.Itoa(code)
	}
	return strings.TrimSpace(fmt.Sprint(state))
}
