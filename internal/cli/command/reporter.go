package command

import (
	"fmt"
	"io"
	"maps"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/x/term"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
)

// told is what a reporter has told of a service.
type told struct {
	state   supervise.State
	blocked bool
	held    bool
	task    supervise.Task
	step    string // of the preparation
}

// reporter shows the progress of services: on a terminal one line each that
// changes in place, otherwise a line for each change.
type reporter struct {
	out   io.Writer
	names []string
	live  bool
	width int
	lines int // drawn so far
	said  map[string]told
	pad   int
	done  chan struct{} // closed when there is nothing more to show

	mu   sync.Mutex
	last map[string]api.Status
}

func newReporter(out io.Writer, live *os.File, names []string) *reporter {
	r := &reporter{out: out, names: names, said: map[string]told{}}
	for _, n := range names {
		r.pad = max(r.pad, len(n))
	}
	if live != nil && Terminal(live) && os.Getenv("TERM") != "dumb" {
		if w, h, err := term.GetSize(live.Fd()); err == nil && h > len(names)+1 {
			r.live, r.width, r.out = true, w, live
			r.done = make(chan struct{})
			go r.tick()
		}
	}
	return r
}

// stop ends what newReporter has begun.
func (r *reporter) stop() {
	if r.done != nil {
		close(r.done)
	}
}

// follow shows these services, and no others.
func (r *reporter) follow(names []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.names = names
}

// tick draws again now and then, since what is done takes longer all the time.
func (r *reporter) tick() {
	for {
		select {
		case <-r.done:
			return
		case <-time.After(250 * time.Millisecond):
		}
		r.mu.Lock()
		last, takes := r.last, false
		for _, st := range last {
			_, under := st.UnderWay()
			takes = takes || under
		}
		r.mu.Unlock()
		if takes {
			r.show(last)
		}
	}
}

// line returns a service's progress in one line.
func (r *reporter) line(st api.Status) string {
	text := fmt.Sprintf("%s %-*s  %-9s", signs.State(st.Shown()), r.pad, st.Name, st.Shown())
	switch {
	case st.State == supervise.Ready && st.ReadyMS > 0 && !st.Held:
		text += "  " + words.Millis(st.ReadyMS)
		if st.Port != 0 {
			text += fmt.Sprintf("  port %d", st.Port)
		}
	case st.Task != "" && st.State != supervise.Preparing:
		text += "  " + string(st.Task) + " " + st.Reason
	case st.Reason != "":
		text += "  " + st.Reason
	}
	if step, under := st.UnderWay(); under && r.live {
		text = strings.TrimSuffix(text, st.Reason) + progressBar(step) + step.InWords(time.Now())
		if n := len(st.Lines); n > 0 {
			text += "  " + st.Lines[n-1].Text
		}
	}
	return strings.TrimRight(text, " ")
}

func (r *reporter) show(current map[string]api.Status) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var b strings.Builder
	if r.live && r.lines > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", r.lines)
	}
	for _, name := range r.names {
		st := current[name]
		if r.live {
			fmt.Fprintf(&b, "\r\x1b[K%s\n", display.Truncate(display.Clean(r.line(st)), r.width-1))
			continue
		}
		// Without a terminal only changes of the state are told, and that a
		// service won't start.
		if now := (told{st.State, st.Blocked, st.Held, st.Task, preparing(st)}); r.said[name] != now {
			r.said[name] = now
			b.WriteString(r.line(st) + "\n")
			for _, remark := range st.Remarks {
				b.WriteString("    " + remark + "\n")
			}
		}
	}
	r.lines = len(r.names)
	fmt.Fprint(r.out, b.String())
	r.last = maps.Clone(current)
}

// progressBar shows how far a step is against how long it took the last time.
func progressBar(s supervise.Step) string {
	const width = 8
	if s.Usual == 0 {
		return ""
	}
	n := min(width-1, int(float64(time.Since(s.Began).Milliseconds())/s.Usual*width))
	return strings.Repeat("█", n) + strings.Repeat("░", width-n) + " "
}

// preparing returns the command that prepares, "" if none does.
func preparing(st api.Status) string {
	if step, under := st.UnderWay(); under {
		return step.What
	}
	return ""
}

// close tells at the end what did not fit in a line.
func (r *reporter) close() {
	if !r.live {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, name := range r.names {
		st := r.last[name]
		if st.State != supervise.Failed && !st.Held {
			continue
		}
		fmt.Fprintf(r.out, "\n%s: %s\n", name, display.Clean(st.Reason))
		for _, remark := range st.Remarks {
			fmt.Fprintf(r.out, "    %s\n", display.Clean(remark))
		}
	}
}

// Telling shows on the terminal, if there is one, how far something is until the function that it
// returns is called.
func (a *App) Telling(says func() string) (done func()) {
	if !Terminal(a.Live) {
		return func() {}
	}
	over, told := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(told)
		for {
			select {
			case <-over:
				fmt.Fprint(a.Live, "\r\x1b[K")
				return
			case <-time.After(200 * time.Millisecond):
				fmt.Fprint(a.Live, "\r"+display.Clean(says())+"\x1b[K")
			}
		}
	}()
	return func() {
		close(over)
		<-told
	}
}
