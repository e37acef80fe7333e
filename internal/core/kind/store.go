package kind

import "neighbour/internal/core/store"

// Holding is implemented by kinds into whose services one can look.
type Holding interface {
	// Source opens a look into a service; it connects when it is asked.
	Source(in *Instance) (store.Source, error)
}
