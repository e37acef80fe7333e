package launch

import (
	"sync"
	"time"

	"neighbour/internal/core/machine/proc"
)

// elsewhere stands in for the process of a service that isn't ours: it runs
// until it is told to stop, and there is nothing behind it.
type elsewhere struct {
	once sync.Once
	done chan struct{}
}

func newElsewhere() *elsewhere { return &elsewhere{done: make(chan struct{})} }

func (e *elsewhere) end() { e.once.Do(func() { close(e.done) }) }

func (e *elsewhere) ID() proc.ID                 { return proc.ID{} }
func (e *elsewhere) Done() <-chan struct{}       { return e.done }
func (e *elsewhere) Exit() proc.Exit             { return proc.Exit{} }
func (e *elsewhere) Signal(string) error         { e.end(); return nil }
func (e *elsewhere) End(string) (int, error)     { e.end(); return 0, nil }
func (e *elsewhere) KillAll(time.Duration) error { e.end(); return nil }
