package keep

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/starts"
)

// recorder notes how starts go. What it is told comes from services that are
// starting, so it writes nothing itself: saveStarts does, afterwards.
type recorder struct {
	mu sync.Mutex
	// under are the starts under way that a service is part of.
	under map[string]*starts.Start
	// latest is the one that began last; nil before.
	latest *starts.Start
	// unsaved are those whose record is to be written.
	unsaved []*starts.Start
	// drafts are the numbers in the history of what is under way and was written
	// already, so that it is known even if the keeper is killed.
	drafts map[*starts.Start]int64
	save   chan struct{} // holds a value when there are any
	saving sync.Mutex    // is held while they are written
}

func newRecorder() *recorder {
	return &recorder{under: map[string]*starts.Start{}, drafts: map[*starts.Start]int64{}, save: make(chan struct{}, 1)}
}

// begin begins the record of a start, before its services begin. Begun is to be
// told which of them really have: the others ran already, or another start has
// them.
func (r *recorder) begin(began time.Time, by, profile string, services []starts.Service) (begun func(names []string)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := &starts.Start{Began: began, By: by, Profile: profile, Result: starts.UnderWay, Services: services}
	was := maps.Clone(r.under)
	for _, v := range services {
		r.under[v.Name] = s
	}
	return func(names []string) { r.begun(s, names, was) }
}

func (r *recorder) begun(s *starts.Start, names []string, was map[string]*starts.Start) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s.Services = slices.DeleteFunc(s.Services, func(v starts.Service) bool {
		if slices.Contains(names, v.Name) {
			return false
		}
		if before := was[v.Name]; before != nil && before.Result == starts.UnderWay {
			r.under[v.Name] = before
		} else {
			delete(r.under, v.Name)
		}
		return true
	})
	if len(s.Services) > 0 {
		r.latest = s
		r.finish(s)
		r.wake()
	}
}

// wake tells saveStarts that there is something to do.
func (r *recorder) wake() {
	select {
	case r.save <- struct{}{}:
	default:
	}
}

// changed takes a service's new status for the start that it is part of.
func (r *recorder) changed(now supervise.Status) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.under[now.Name]
	if s == nil {
		return
	}
	v, ok := s.Service(now.Name)
	if !ok || now.Began.Before(s.Began) {
		return
	}
	at := s.Now(time.Now())
	note(v, now, at)
	if v.Result != "" {
		r.finish(s)
	}
}

// note adds to a service's record what its status says.
func note(v *starts.Service, now supervise.Status, at float64) {
	v.Result, v.Reason = "", ""
	is, what := starts.Waiting, now.Reason
	switch now.State {
	case supervise.Preparing:
		is = starts.Preparing
	case supervise.Starting:
		is = starts.Starting
	case supervise.Waiting:
		if now.Blocked {
			v.Result, v.Reason = starts.Failed, now.Reason
		}
	case supervise.Ready, supervise.Finished:
		if now.Held {
			v.Result, v.Reason, v.Version = starts.Failed, now.Reason, now.Version
			is, what = "", ""
			break
		}
		v.Result, v.Version = starts.Ready, now.Version
		is, what = "", ""
	case supervise.Failed:
		v.Result, v.Reason, v.Version = starts.Failed, now.Reason, now.Version
		is, what = "", ""
	default:
		v.Result = starts.Cancelled
		is, what = "", ""
	}
	switch now.Task {
	case supervise.Migrating:
		is = starts.Migrating
	case supervise.Seeding:
		is = starts.Seeding
	case supervise.Running:
		is = starts.Errand
	}
	n := len(v.Phases)
	if n > 0 && is != "" && v.Phases[n-1].To == 0 && at-v.Phases[n-1].From < 0.05 {
		n-- // what took no time
		at = v.Phases[n].From
		v.Phases = v.Phases[:n]
	}
	if n > 0 && is == v.Phases[n-1].Is && (is == starts.Starting || is == starts.Migrating || what == v.Phases[n-1].What || v.Phases[n-1].What == "") {
		if what != "" {
			v.Phases[n-1].What = what // a start's newest check, or what is known only now
		}
	} else {
		if n > 0 && v.Phases[n-1].To == 0 {
			v.Phases[n-1].To = at
		}
		if is != "" {
			v.Phases = append(v.Phases, starts.Phase{Is: is, From: at, What: what})
		}
	}
	if n = len(v.Phases); v.Result != "" && n > 0 && v.Phases[n-1].To == 0 {
		v.Phases[n-1].To = at
	}
}

// finish ends the record of a start whose services have all come to their end.
func (r *recorder) finish(s *starts.Start) {
	result, took := starts.Ready, 0.0
	for i := range s.Services {
		v := &s.Services[i]
		switch {
		case v.Result == "":
			return
		case v.Result == starts.Cancelled && result != starts.Failed:
			result = starts.Cancelled
		case v.Result == starts.Failed && !v.Optional:
			result = starts.Failed
		}
		if v.Ran() {
			took = max(took, v.End())
		}
		s.Cold = s.Cold || v.Cold()
	}
	s.Result, s.Took = result, took
	for _, v := range s.Services {
		if r.under[v.Name] == s {
			delete(r.under, v.Name)
		}
	}
	r.unsaved = append(r.unsaved, s)
	r.wake()
}

// abandon ends the records of what is under way.
func (r *recorder) abandon() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.under {
		s.Cancel(s.Now(time.Now()), "the keeper ended")
		r.finish(s)
	}
}

// isDraft reports whether a number in the history is that of a start under way.
func (r *recorder) isDraft(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, draft := range r.drafts {
		if draft == id {
			return true
		}
	}
	return false
}

// recording returns the start that began last, nil if there was none, and
// whether it is not in the history yet.
func (r *recorder) recording() (s *starts.Start, unsaved bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.latest == nil {
		return nil, false
	}
	return r.latest.Clone(), r.latest.ID == 0
}

const (
	// saveDelay is how long after a start its record is written: whoever waited
	// for it goes first.
	saveDelay = 300 * time.Millisecond
	// draftEvery is how often what there is of a long start is written.
	draftEvery = 2 * time.Second
)

// saveStarts writes the records of starts, now and then what there is of a long
// one, and when the keeper ends those of what is under way.
func (k *Keeper) saveStarts() {
	draft := time.NewTimer(draftEvery)
	for {
		select {
		case <-k.records.save:
			select {
			case <-time.After(saveDelay):
			case <-k.ctx.Done():
			}
			k.saveRecords()
			draft.Reset(draftEvery)
		case <-draft.C:
			if k.saveDrafts() {
				draft.Reset(draftEvery)
			}
		case <-k.ctx.Done():
			k.records.abandon()
			k.saveRecords()
			return
		}
	}
}

// saveDrafts writes what there is of the starts under way, and reports whether
// there are any.
func (k *Keeper) saveDrafts() bool {
	all := k.records.underWay()
	k.mu.Lock()
	forsaken := k.forsaken
	k.mu.Unlock()
	for from, s := range all {
		if forsaken {
			return false
		}
		s.Took = s.Now(time.Now())
		if err := k.history.Save(k.ctx, s); err != nil {
			k.log.Error("a start can't be recorded", "why", err)
			return false
		}
		k.records.drafted(from, s.ID)
	}
	return len(all) > 0
}

// underWay returns copies of what is under way, with the numbers that they have
// in the history.
func (r *recorder) underWay() map[*starts.Start]*starts.Start {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[*starts.Start]*starts.Start{}
	for _, s := range r.under {
		if out[s] == nil {
			out[s] = s.Clone()
			out[s].ID = r.drafts[s]
		}
	}
	return out
}

func (r *recorder) drafted(s *starts.Start, id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.drafts[s] = id
}

func (k *Keeper) saveRecords() {
	r := k.records
	r.saving.Lock()
	defer r.saving.Unlock()
	r.mu.Lock()
	all := r.unsaved
	r.unsaved = nil
	r.mu.Unlock()
	k.mu.Lock()
	forsaken := k.forsaken
	k.mu.Unlock()
	if len(all) == 0 || forsaken {
		return
	}
	// The keeper may be about to end, and this is still to be kept.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(k.ctx), 5*time.Second)
	defer cancel()
	table, _ := proc.ReadTable()
	for _, s := range all {
		changed, err := k.history.Declared(ctx, k.digests())
		s := r.complete(s, changed, func(name string) float64 {
			cpu, _ := table.Usage(table.Belonging(k.services[name].Process()))
			return float64(cpu.Microseconds()) / 1000
		})
		if err == nil {
			err = k.history.Save(ctx, s)
		}
		if err != nil {
			k.log.Error("a start can't be recorded", "why", err)
			continue
		}
		r.saved(s)
	}
	k.touch("")
}

// complete adds to a record what is found out when it has ended, and returns a
// copy to be written.
func (r *recorder) complete(s *starts.Start, changed []string, processor func(service string) float64) *starts.Start {
	used := map[string]float64{}
	for _, v := range s.Services {
		if v.Result == starts.Ready {
			used[v.Name] = processor(v.Name)
		}
	}
	slices.Sort(changed)
	r.mu.Lock()
	defer r.mu.Unlock()
	s.Changed = changed
	for i := range s.Services {
		s.Services[i].Processor = used[s.Services[i].Name]
	}
	done := s.Clone()
	done.ID = r.drafts[s] // in its place
	delete(r.drafts, s)
	return done
}

// saved notes the number that a record has in the history.
func (r *recorder) saved(s *starts.Start) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.latest != nil && r.latest.ID == 0 && r.latest.Began.Equal(s.Began) {
		r.latest.ID = s.ID
	}
}

// toRecord returns services as the record of their start begins with them.
func (k *Keeper) toRecord(names []string) []starts.Service {
	var out []starts.Service
	k.each(func(sv *supervise.Service) {
		if !slices.Contains(names, sv.Name()) {
			return
		}
		s := k.decl.Service(sv.Name())
		v := starts.Service{Name: s.Name, Kind: s.Kind, Optional: s.Optional, Phases: []starts.Phase{}}
		for _, n := range s.Needs {
			if slices.Contains(names, n) {
				v.Needs = append(v.Needs, n)
			}
		}
		out = append(out, v)
	})
	return out
}

// digests returns those of the declaration's keys, by "service.key".
func (k *Keeper) digests() map[string]string {
	out := map[string]string{}
	for _, s := range k.decl.Services {
		for key, digest := range s.Digests() {
			out[s.Name+"."+key] = digest
		}
	}
	return out
}

// damagedHistory tells that the history could not be read.
func (k *Keeper) damagedHistory(path string) {
	text := "the history of starts was damaged; it is begun anew, and what was there is in " + path
	k.log.Error("history", "why", text)
	k.note("", "history", journal.Warn, text)
}

// recording returns the start that began last, nil if there was none, and whether it is not in
// the history yet: it is under way, or can't be written.
func (k *Keeper) recording() (s *starts.Start, unsaved bool) {
	s, unsaved = k.records.recording()
	if unsaved && s.Result != starts.UnderWay {
		k.saveRecords() // without its delay: who asks gets its number
		s, unsaved = k.records.recording()
	}
	return s, unsaved
}

// Starts returns the latest starts, the newest last; one that is under way has the number 0.
func (k *Keeper) Starts(ctx context.Context, n int) ([]history.Summary, error) {
	s, unsaved := k.recording()
	out, err := k.history.List(ctx, n)
	out = slices.DeleteFunc(out, func(s history.Summary) bool { return k.records.isDraft(s.ID) })
	if err == nil && unsaved {
		out = append(out, history.Summary{Began: s.Began, Took: s.Took, Result: s.Result, Cold: s.Cold, Services: len(s.Services)})
	}
	return out, err
}

// StartReport tells how a start went; the number 0 is the one that began last.
func (k *Keeper) StartReport(ctx context.Context, id int64) (starts.Report, error) {
	s, unsaved := k.recording()
	if s == nil || id != 0 && id != s.ID {
		return k.history.Report(ctx, id)
	}
	before := s.ID
	if unsaved {
		before = 1 << 62
	}
	earlier, err := k.history.Before(ctx, before, history.Compared)
	if err != nil && !errors.Is(err, history.ErrNone) {
		return starts.Report{}, err
	}
	return starts.NewReport(s, earlier, time.Now()), nil
}
