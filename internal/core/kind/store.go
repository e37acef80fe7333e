package kind

import (
	"context"

	"neighbour/internal/core/store"
)

// Holding is implemented by kinds into whose services one can look.
type Holding interface {
	// Source opens a look into a service; it connects when it is asked.
	Source(in *Instance) (store.Source, error)
}

// Locker is implemented by kinds whose data is only whole on the disk while nothing writes to it.
type Locker interface {
	// Lock keeps all from writing to a service that runs until unlock is called, or for as long
	// as the context lasts.
	Lock(ctx context.Context, in *Instance) (unlock func(), err error)
}

// Dumper is implemented by kinds whose server has programs that write a database
// as a script, and carry one out.
type Dumper interface {
	// Dump is the command that writes a database to its output; "" is that of the
	// facts.
	Dump(in *Instance, database string) ([]string, error)
	// Load is the command that carries out what it reads from its input.
	Load(in *Instance, database string) ([]string, error)
}
