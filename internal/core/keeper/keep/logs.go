package keep

import (
	"context"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/journal"
)

// Log answers a query about what services printed, and what was noted of
// them; without names, of all.
func (k *Keeper) Log(ctx context.Context, q journal.Query) (journal.Answer, error) {
	if err := k.wanted(&q); err != nil {
		return journal.Answer{}, err
	}
	return journal.Read(ctx, k.project.LogDir(), q)
}

// TailLog gives write what comes after a place from now on, until the context
// or the keeper ends; see journal.Tail.
func (k *Keeper) TailLog(ctx context.Context, q journal.Query, write func(journal.Entry)) error {
	if err := k.wanted(&q); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(k.ctx, cancel)()
	return journal.Tail(ctx, k.project.LogDir(), q, write)
}

// CountLog counts what Log would find without its limit. It calls progress
// now and then.
func (k *Keeper) CountLog(ctx context.Context, q journal.Query, progress func(journal.Count)) (journal.Count, error) {
	if err := k.wanted(&q); err != nil {
		return journal.Count{}, err
	}
	return journal.CountEntries(ctx, k.project.LogDir(), q, progress)
}

func (k *Keeper) wanted(q *journal.Query) error {
	if len(q.Services) == 0 {
		q.Services = k.decl.Names()
	}
	return k.decl.Check(q.Services...)
}

// followLogs follows what the services print.
func (k *Keeper) followLogs() (*journal.Follower, error) {
	f, err := journal.KeepTimes(k.project.LogDir(), k.decl.Names(), supervise.RecentLines, k.printed)
	if err != nil {
		return nil, err
	}
	f.Keep = map[string]int64{}
	for _, s := range k.decl.Services {
		f.Keep[s.Name] = int64(s.Log.Keep)
		if sees := k.drivers[s.Name].Sees(); sees != nil {
			f.Whole(s.Name, sees)
		}
	}
	f.Failed = func(err error) { k.log.Error("logs", "why", err) }
	return f, nil
}

// printed gets the latest lines of a service's output.
func (k *Keeper) printed(service string, lines []journal.Line) {
	// Not a change of state: only those who watch are told.
	k.services[service].Amend(func(s *supervise.Status) { s.Printed(lines) })
	k.touch(service)
}

// touch tells those who watch that something of a service has changed; ""
// is the project as a whole.
func (k *Keeper) touch(service string) {
	k.mu.Lock()
	for w := range k.watchers {
		w.touch(service)
	}
	k.mu.Unlock()
}

// catchUp waits until what a service has printed so far was seen.
func (k *Keeper) catchUp(service string) {
	k.mu.Lock()
	f := k.follower
	k.mu.Unlock()
	if f == nil {
		return
	}
	ctx, cancel := context.WithTimeout(k.ctx, time.Second)
	defer cancel()
	f.CatchUp(ctx, service)
}

// note writes an event of a service down, "" for the project.
func (k *Keeper) note(service, event string, level journal.Level, text string) {
	if k.notes == nil {
		return
	}
	if err := k.notes.Note(service, event, level, text); err != nil {
		k.log.Error("an event can't be noted", "why", err)
	}
}
