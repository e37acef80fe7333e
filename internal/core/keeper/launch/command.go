package launch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/core/record/journal"
)

// RunErrand runs an errand of a project to its end, and keeps how that went.
// Begun, if given, is called before the command is started, and may write what
// goes before its output. RunErrand fails with a *supervise.Failure that has the lines which tell most.
func RunErrand(ctx context.Context, p *project.Project, e *declare.Errand, args []string, by string, begun func(r errand.Run, out io.Writer) error) (errand.Run, error) {
	if err := p.EnsureDirs(); err != nil {
		return errand.Run{}, err
	}
	store := errand.NewStore(p.ErrandDir())
	rec, err := store.Begin(errand.Run{Errand: e.Name, Args: args, By: by, Copy: p.Copy})
	if err != nil {
		return errand.Run{}, fmt.Errorf("what becomes of errand %s can't be kept: %w", e.Name, err)
	}
	var latest Tail
	var exit proc.Exit
	if begun != nil {
		err = begun(rec.Run(), rec)
	}
	if err == nil {
		exit, err = runErrand(ctx, p, e, args, io.MultiWriter(rec, &latest), rec)
	}
	if ctx.Err() != nil {
		rec.Cancelled()
	}
	line := ""
	said := exit.String()
	switch {
	case err != nil:
		said, line = err.Error(), ""
		fmt.Fprintln(rec, said)
	case exit.OK():
		line = latest.Last()
	default:
		line = latest.Cause()
	}
	run, saving := rec.End(err == nil && exit.OK(), said, p.Mask(line))
	switch {
	case ctx.Err() != nil:
		return run, ctx.Err()
	case err != nil:
		return run, &supervise.Failure{Reason: fmt.Sprintf("errand %s: %s", e.Name, err)}
	case !exit.OK():
		return run, &supervise.Failure{Reason: fmt.Sprintf("errand %s: %s: %s after %s%s", e.Name, words.Short(e.Run.String()), exit, words.Span(time.Since(run.Began)), words.Because(p.Mask(latest.Cause()))),
			Remarks: masked(p, latest.lines(6))}
	}
	return run, saving
}

func masked(p *project.Project, lines []string) []string {
	for i := range lines {
		lines[i] = p.Mask(lines[i])
	}
	return lines
}

func runErrand(ctx context.Context, p *project.Project, e *declare.Errand, args []string, out io.Writer, rec *errand.Recording) (proc.Exit, error) {
	c, err := p.ErrandCommand(e, args, nil)
	if err != nil {
		return proc.Exit{}, err
	}
	if c.Argv[0], err = c.Program(); err != nil {
		return proc.Exit{}, err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return proc.Exit{}, err
	}
	defer r.Close()
	process, err := proc.Start(proc.Spec{Argv: c.Argv, Env: c.Environ(), Dir: c.Dir, Mark: p.Mark("errand." + e.Name), Output: w})
	w.Close()
	if err != nil {
		return proc.Exit{}, fmt.Errorf("%s can't be started: %w", c.Argv[0], errors.Unwrap(err))
	}
	if err := rec.Started(process.ID()); err != nil {
		return proc.Exit{}, err
	}
	copied := make(chan struct{})
	go func() {
		_, _ = io.Copy(out, r)
		close(copied)
	}()
	if err := await(ctx, process); err != nil {
		return proc.Exit{}, err
	}
	select { // what it left in the background may have the pipe
	case <-copied:
	case <-time.After(200 * time.Millisecond):
	}
	return process.Exit(), nil
}

// await waits for a process, ends it when the context does, and leaves nothing of
// it.
func await(ctx context.Context, process *proc.Process) error {
	select {
	case <-process.Done():
	case <-ctx.Done():
		_, _ = process.End("TERM")
		select {
		case <-process.Done():
		case <-time.After(2 * time.Second):
		}
	}
	if err := process.KillAll(supervise.KillWait); err != nil {
		return err
	}
	<-process.Done()
	return nil
}

// Tail keeps the newest lines of some output. Its methods may be called
// concurrently.
type Tail struct {
	mu   sync.Mutex
	all  []string
	part string
}

// saysError is how a line begins that names an error itself.
var saysError = lazyregexp.New(`(?i)^\W*(?:[\w./-]+: )?(?:error|fatal)\b`)

const tailLines = 200

// Write takes more output.
func (t *Tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	parts := strings.Split(t.part+string(b), "\n")
	t.part = parts[len(parts)-1]
	if len(t.part) > 1<<16 {
		t.part = t.part[:1<<16]
	}
	t.all = append(t.all, parts[:len(parts)-1]...)
	if len(t.all) > 2*tailLines {
		t.all = append([]string(nil), t.all[len(t.all)-tailLines:]...)
	}
	return len(b), nil
}

func (t *Tail) lines(n int) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []string
	for _, l := range append(t.all[:len(t.all):len(t.all)], t.part) {
		if l = strings.TrimSpace(journal.Plain(l)); l != "" {
			out = append(out, l)
		}
	}
	return out[max(0, len(out)-n):]
}

// Last returns the newest line that is not empty.
func (t *Tail) Last() string {
	if l := t.lines(1); len(l) > 0 {
		return l[0]
	}
	return ""
}

// Cause returns the line that says why the command failed, else the newest.
func (t *Tail) Cause() string {
	lines := t.lines(tailLines)
	if c := journal.CauseOf(lines); c != "" {
		return c
	}
	for _, l := range slices.Backward(lines) {
		if saysError.MatchString(l) {
			return l
		}
	}
	return t.Last()
}
