package kind

import (
	"context"
	"slices"
	"time"

	"neighbour/internal/core/record/outbox"
)

// Watch says what of a service a trigger watches.
type Watch struct {
	// Trigger is its name.
	Trigger string
	// What is a collection, a bucket with a pattern, a queue.
	What string
	// Changes are the types of events that are wanted; none: all.
	Changes []string
	// Key is the column of a table that grows, and Every how often that is looked at.
	Key   string
	Every time.Duration
}

// Wants reports whether an event of a type is wanted.
func (w Watch) Wants(change string) bool {
	return len(w.Changes) == 0 || slices.Contains(w.Changes, change)
}

// Emit takes events, and the place of their source up to which they go. When it returns without
// an error they are kept, so that a queue may forget them.
type Emit func(events []outbox.Event, cursor string) error

// Emitter is implemented by kinds whose services tell what happens in them.
type Emitter interface {
	// Follow tells what happens after a place, "" being now, until the context ends or the
	// service can't be reached. Once nothing that happens is missed any more it tells the place
	// from which that is so, with no events.
	Follow(ctx context.Context, in *Instance, w Watch, cursor string, emit Emit) error
}

// Taker is implemented by the sources (see Source) of services that can be sent messages. It
// uses the connection of the source, since servers log each that is made.
type Taker interface {
	// Take sends a message, and returns when the service has it.
	Take(ctx context.Context, to string, e outbox.Event) error
}

// Recorder is implemented by kinds whose services remember what passed: requests, calls.
type Recorder interface {
	// Traffic is the address below which they tell it, as traffic.Log's Handler does.
	Traffic(in *Instance) string
}
