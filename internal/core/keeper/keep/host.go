package keep

import (
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
	"strings"
)

// host is the keeper as its services see it.
type host struct{ *Keeper }

// Missing says what a service waits for, "" if it may start, and whether that
// will not come by itself.
func (k host) Missing(service string) (reason string, blocked bool) {
	var waits, gone []string
	for _, name := range k.decl.Service(service).Needs {
		st := k.services[name].Status()
		switch {
		case st.State == supervise.Ready && st.Held && !st.Optional:
			gone = append(gone, name+", whose "+strings.TrimPrefix(st.Reason, "its "))
		case st.State == supervise.Ready || st.State == supervise.Finished:
		case st.Optional && (st.State == supervise.Failed || st.Blocked):
		case st.State == supervise.Failed:
			gone = append(gone, name+", which failed")
		case st.State == supervise.Stopped:
			gone = append(gone, name+", which is stopped")
		case st.Blocked:
			gone = append(gone, name+", which can't start")
		case st.State == supervise.Ailing:
			waits = append(waits, name+", which is ailing")
		default:
			waits = append(waits, name)
		}
	}
	if len(gone) > 0 {
		return "for " + words.Join(gone), true
	}
	if len(waits) > 0 {
		return "for " + words.Join(waits), false
	}
	return "", false
}

// Changed tells everybody of a service's change.
func (k host) Changed(before supervise.State, now supervise.Status, moved bool) {
	if now.State != before {
		k.noteState(before, now)
		k.states.tell(now.Name, string(now.State))
		if now.State == supervise.Ready && before != supervise.Ailing && !now.Held {
			k.openPage(now.Name)
		}
		if moved {
			k.runHooks(before, now)
		}
	}
	k.records.changed(now)
	// By now it may have gone on, and the newest is what counts.
	s := k.services[now.Name].Status()
	k.mu.Lock()
	for w := range k.watchers {
		if moved {
			w.moved(s.Name)
		} else {
			w.touch(s.Name)
		}
	}
	k.mu.Unlock()
	if !moved {
		return
	}
	// Who waits for it looks again.
	for _, name := range k.plan.NeededBy(s.Name) {
		k.services[name].Wake()
	}
	k.ops.advance(s)
	k.log.Info("state", "service", s.Name, "state", s.State, "reason", s.Reason, "pid", s.PID)
	k.measureStart()
	k.saveSoon(s.Name)
}

// runHooks runs the errands that a service's new state is to run.
func (k host) runHooks(before supervise.State, now supervise.Status) {
	switch {
	case now.State == supervise.Ready && before != supervise.Ailing && !now.Held, now.State == supervise.Finished:
		k.hooks("ready", now.Name)
		k.noteData(now.Name)
	case now.State == supervise.Failed:
		k.hooks("failed", now.Name)
	case now.State == supervise.Stopped:
		k.hooks("stopped", now.Name)
	}
}

// noteData gives the data of a service an identity, if it has made any only once it ran.
func (k host) noteData(service string) {
	if k.project == nil || !k.project.KeepsData(k.decl.Service(service)) {
		return
	}
	k.background.Go(func() {
		in, err := k.project.Instance(k.decl.Service(service))
		if err == nil {
			in.Program.Version = k.services[service].Status().Version
			err = k.project.NoteData(in)
		}
		if err != nil {
			k.log.Warn("the data of a service can't be noted", "service", service, "why", err)
		}
	})
}

// Replaced has the new process saved: a keeper that follows must know it.
func (k host) Replaced(service string) { k.saveSoon(service) }

// Note writes an event of a service down.
func (k host) Note(service, event string, level journal.Level, text string) {
	k.note(service, event, level, text)
}

// noteState writes down that a service came from one state into another.
func (k host) noteState(before supervise.State, s supervise.Status) {
	if before.Running() && !s.State.Running() {
		k.catchUp(s.Name) // its last words come before its end
	}
	switch s.State {
	case supervise.Preparing:
		k.note(s.Name, "preparing", journal.Info, "preparing: "+s.Reason)
	case supervise.Ready:
		if before == supervise.Ailing {
			k.note(s.Name, "ready", journal.Info, "ready again")
		} else if s.ReadyMS > 0 {
			k.note(s.Name, "ready", journal.Info, "ready after "+words.Millis(s.ReadyMS))
		}
	case supervise.Ailing:
		k.note(s.Name, "ailing", journal.Warn, "ailing: "+s.Reason)
	case supervise.Failed:
		k.note(s.Name, "failed", journal.Error, "failed: "+s.Reason)
	case supervise.Finished:
		k.note(s.Name, "finished", journal.Info, "finished: "+s.Reason)
	case supervise.Stopped:
		k.note(s.Name, "stopped", journal.Info, "stopped"+words.Because(s.Reason))
	case supervise.Waiting:
		if before.Running() {
			k.note(s.Name, "ended", journal.Warn, s.Reason)
		}
	}
}
