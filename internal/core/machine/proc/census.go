package proc

import "sync"

// Census is a process table with the marks of all processes. Many services
// that are stopped at the same time share one.
type Census struct {
	done   chan struct{} // closed when it is there
	table  Table
	marked map[string][]int // by mark, the pids
	err    error
}

var (
	censusMu        sync.Mutex
	reading, coming *Census // the one being read, or read last, and the one after it
)

// Belonging lists the live processes of a service: its main process, its
// group, every process that carries its mark, and all their descendants.
func (c *Census) Belonging(main ID, mark string) []ID {
	return c.table.Belonging(main, c.marked[mark]...)
}

// TakeCensus returns a census that began after the call.
func TakeCensus() (*Census, error) {
	censusMu.Lock()
	c := coming
	if c == nil {
		c = &Census{done: make(chan struct{})}
		coming = c
		go c.read(reading)
	}
	censusMu.Unlock()
	<-c.done
	return c, c.err
}

// read reads the census once the one before it is through.
func (c *Census) read(before *Census) {
	defer close(c.done)
	if before != nil {
		<-before.done
	}
	censusMu.Lock()
	reading, coming = c, nil
	censusMu.Unlock()
	if c.table, c.err = ReadTable(); c.err != nil {
		return
	}
	c.marked = map[string][]int{}
	for pid := range c.table {
		if m := markOf(pid); m != "" {
			c.marked[m] = append(c.marked[m], pid)
		}
	}
}
