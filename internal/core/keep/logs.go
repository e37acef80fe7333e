package keep

import (
	"context"
	"time"

	"neighbour/internal/core/journal"
)

// Log answers a query about what services printed, and what was noted of
// them; without names, of all.
func (k *Keeper) Log(ctx context.Context, q journal.Query) (journal.Answer, error) {
	if err := k.wanted(&q); err != nil {
		return journal.Answer{}, err
	}
	return journal.Read(ctx, k.project.LogDir(), q)
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
	f, err := journal.KeepTimes(k.project.LogDir(), k.decl.Names(), recentLines, k.took)
	if err != nil {
		return nil, err
	}
	f.Keep = map[string]int64{}
	for _, s := range k.decl.Services {
		f.Keep[s.Name] = int64(s.Log.Keep)
		if d, ok := k.units[s.Name].driver.(*serverDriver); ok && d.match != nil {
			f.Whole(s.Name, d.match.see)
		}
	}
	f.Failed = func(err error) { k.log.Error("logs", "why", err) }
	return f, nil
}

// took gets the latest lines of a service's output.
func (k *Keeper) took(service string, lines []journal.Line) {
	u := k.units[service]
	// Not a change of state: only those who watch are told.
	u.mu.Lock()
	u.status.Lines = push(u.status.Lines, recentLines, lines[max(0, len(lines)-recentLines):]...)
	u.mu.Unlock()
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

// noteState writes down that a service came from one state into another.
func (k *Keeper) noteState(before State, s Status) {
	if before.Running() && !s.State.Running() {
		k.catchUp(s.Name) // its last words come before its end
	}
	switch s.State {
	case Preparing:
		k.note(s.Name, "preparing", journal.Info, "preparing: "+s.Reason)
	case Ready:
		if before == Ailing {
			k.note(s.Name, "ready", journal.Info, "ready again")
		} else if s.ReadyMS > 0 {
			k.note(s.Name, "ready", journal.Info, "ready after "+Millis(s.ReadyMS))
		}
	case Ailing:
		k.note(s.Name, "ailing", journal.Warn, "ailing: "+s.Reason)
	case Failed:
		k.note(s.Name, "failed", journal.Error, "failed: "+s.Reason)
	case Finished:
		k.note(s.Name, "finished", journal.Info, "finished: "+s.Reason)
	case Stopped:
		k.note(s.Name, "stopped", journal.Info, "stopped"+colon(s.Reason))
	case Waiting:
		if before.Running() {
			k.note(s.Name, "ended", journal.Warn, s.Reason)
		}
	}
}
