package keep

import (
	"context"
	"time"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/journal"
)

// Explain says why a service answered a request for an address with a status, as far as its
// files tell; "" if they tell nothing.
func (k *Keeper) Explain(service, address string, status int) string {
	s := k.project.Service(service)
	if s == nil {
		return ""
	}
	explainer, ok := k.project.Kind(s).(kind.Explainer)
	if !ok {
		return ""
	}
	in, err := k.project.Instance(s)
	if err != nil {
		return ""
	}
	return explainer.Explain(in, address, status)
}

// How far outside of a time lines may have been seen that were printed in it, and how many are
// returned at most.
const (
	seenEarly      = 20 * time.Millisecond
	warnedLate     = 150 * time.Millisecond
	failedLate     = 2 * time.Second // on a busy machine
	mostComplaints = 12
	mostLines      = 500
)

// Complaints returns the warnings and errors that a service printed between two times, and the
// errors of those it needs, the oldest first, with what belongs to them: lines without a level
// that follow one.
func (k *Keeper) Complaints(ctx context.Context, service string, from, to time.Time) []journal.Entry {
	if k.project.Service(service) == nil {
		return nil
	}
	q := journal.Query{From: journal.At(from.Add(-seenEarly)), Before: journal.At(to.Add(failedLate)), N: mostLines, Oldest: true}
	q.Services = append([]string{service}, k.project.Plan.Needs(service)...)
	a, err := journal.Read(ctx, k.project.LogDir(), q)
	if err != nil {
		return nil
	}
	var out []journal.Entry
	complains := map[string]bool{}
	for _, e := range a.Entries {
		least := journal.Warn
		if e.Service != service || e.Place.Seen > to.Add(warnedLate).UnixMilli() {
			least = journal.Error
		}
		complains[e.Service] = e.Level >= least || e.Level == journal.None && complains[e.Service]
		if complains[e.Service] && len(out) < mostComplaints {
			out = append(out, e)
		}
	}
	return out
}
