package keep

import (
	"context"
	"neighbour/internal/core/keeper/supervise"
	"sync"
)

// Watch tells one client what changes. It holds back only which services
// changed, not what: a slow client gets the newest, and costs nothing.
type Watch struct {
	keeper *Keeper
	wake   chan struct{}
	urgent chan struct{}

	// moves says that only changes of states are told, so that the watch costs nothing
	// while nothing moves. The gate watches so; nobody looks at a screen.
	moves bool

	mu    sync.Mutex
	dirty map[string]bool
	all   bool
}

// Watch begins to watch. The first Next returns everything.
func (k *Keeper) Watch() *Watch { return k.watch(false) }

// WatchMoves is as Watch, but tells only of services that come into another state, and of the
// project as a whole. A keeper that is watched by nobody else is idle.
func (k *Keeper) WatchMoves() *Watch { return k.watch(true) }

func (k *Keeper) watch(moves bool) *Watch {
	w := &Watch{moves: moves, keeper: k, wake: make(chan struct{}, 1), urgent: make(chan struct{}, 1), dirty: map[string]bool{}, all: true}
	w.wake <- struct{}{}
	k.mu.Lock()
	k.watchers[w] = struct{}{}
	k.mu.Unlock()
	return w
}

// watched reports whether anybody looks at what the services do. The lock is held.
func (k *Keeper) watched() bool {
	for w := range k.watchers {
		if !w.moves {
			return true
		}
	}
	return false
}

// Close ends the watch.
func (w *Watch) Close() {
	w.keeper.mu.Lock()
	delete(w.keeper.watchers, w)
	w.keeper.mu.Unlock()
	w.keeper.Touch()
}

// Urgent has a value when a state changed. Who holds back between two calls
// of Next, so as not to be kept busy by what services print, should not hold
// that back.
func (w *Watch) Urgent() <-chan struct{} { return w.urgent }

// moved notes that a service's state changed.
func (w *Watch) moved(service string) {
	w.mark(service)
	select {
	case w.urgent <- struct{}{}:
	default:
	}
}

// touch notes that a service changed; "" is the project as a whole.
func (w *Watch) touch(service string) {
	if !w.moves || service == "" {
		w.mark(service)
	}
}

func (w *Watch) mark(service string) {
	w.mu.Lock()
	w.dirty[service] = true
	w.mu.Unlock()
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Next waits for a change and returns the services that changed, as they are
// now. It fails when the context or the keeper ends.
func (w *Watch) Next(ctx context.Context) (Snapshot, error) {
	select {
	case <-ctx.Done():
		return Snapshot{}, ctx.Err()
	case <-w.keeper.ctx.Done():
		return Snapshot{}, ErrClosed
	case <-w.wake:
	}
	w.mu.Lock()
	dirty, all := w.dirty, w.all
	w.dirty, w.all = map[string]bool{}, false
	w.mu.Unlock()
	w.keeper.mu.Lock()
	s := Snapshot{Overview: w.keeper.overview, Services: []supervise.Status{}}
	w.keeper.mu.Unlock()
	w.keeper.each(func(u *supervise.Service) {
		if all || dirty[u.Name()] {
			s.Services = append(s.Services, u.Status())
		}
	})
	return s, nil
}
