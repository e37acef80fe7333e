package functions

import (
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/machine/proc"
)

// process is one that was started for a function, in a group of its own.
type process struct {
	cmd  *exec.Cmd
	id   proc.ID
	done chan struct{} // closed when it has ended
	kill sync.Once
	// release is called when its end was waited for.
	release func()
}

// start starts a process. What it prints goes to out and err, line by line.
func start(cmd *exec.Cmd) (*process, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	p := &process{cmd: cmd, done: make(chan struct{}), release: proc.WaitedFor(cmd.Process.Pid)}
	p.id, _ = proc.Identify(cmd.Process.Pid)
	return p, nil
}

// killWait is how long the end of what a function has started is waited for.
const killWait = 2 * time.Second

// end kills the process and what it has started.
func (p *process) end() {
	p.kill.Do(func() {
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		if remains, err := proc.Adopt(p.id, "", ""); err == nil {
			_ = remains.KillAll(killWait)
		}
	})
}

// watch ends the process when it, with what it has started, takes more memory than it may,
// and then calls over with how much that was. It returns when the process ends.
func (p *process) watch(limit int64, over func(uint64)) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-p.done:
			return
		case <-tick.C:
		}
		table, err := proc.ReadTable()
		if err != nil {
			continue
		}
		if _, used := table.Usage(table.Belonging(p.id)); used > uint64(limit) {
			over(used)
			p.end()
			return
		}
	}
}

// lineLimit is how long a line of output may be, in bytes; one that is longer is cut in
// several.
const lineLimit = 16 << 10

// readLines reads lines and calls take with each, until the end. A NUL ends a line, too, and
// mark is called for it.
func readLines(r io.Reader, take func(string), mark func()) {
	buffer := make([]byte, 32<<10)
	var line []byte
	flush := func() {
		if len(line) > 0 {
			take(string(line))
			line = line[:0]
		}
	}
	for {
		n, err := r.Read(buffer)
		for _, c := range buffer[:n] {
			switch {
			case c == '\n':
				if len(line) == 0 {
					take("")
				}
				flush()
			case c == 0 && mark != nil:
				flush()
				mark()
			default:
				if line = append(line, c); len(line) >= lineLimit {
					flush()
				}
			}
		}
		if err != nil {
			flush()
			return
		}
	}
}

// environment is what a function's process gets.
func environment(more ...string) []string { return append(os.Environ(), more...) }
