package keep

import (
	"time"

	"neighbour/internal/core/journal"
	"neighbour/internal/core/port"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/supervise"
)

// sampler turns what processes have used in all into what they use now.
type sampler struct {
	before  map[proc.ID]usedUntil
	zombies map[int]bool
	exposed port.Sockets // as they were at the sample before
}

type usedUntil struct {
	at  time.Time
	cpu time.Duration
}

func newSampler() *sampler { return &sampler{before: map[proc.ID]usedUntil{}} }

// usage returns what a service's processes use: the processor in percent of one
// core since the last sample, the memory in bytes.
func (s *sampler) usage(table proc.Table, main proc.ID) (percent float32, memory uint64) {
	ids := table.Belonging(main)
	table.MeasureShared(ids)
	cpu, memory := table.Usage(ids)
	now := time.Now()
	if last, ok := s.before[main]; ok && now.After(last.at) {
		// Processes that ended took their share of the sum with them.
		percent = float32(100 * max(0, cpu-last.cpu).Seconds() / now.Sub(last.at).Seconds())
	}
	s.before[main] = usedUntil{now, cpu}
	return percent, memory
}

// reap collects ended orphans of services. Children that this process
// started itself are waited for by those who did; only what is still there
// at a second look is nobody's.
func (s *sampler) reap(table proc.Table) {
	s.zombies = proc.Reap(table, s.zombies)
}

// measure samples usage, asks kinds for their notes, and collects orphans:
// every 2 s while somebody watches, every 10 s otherwise.
func (k *Keeper) measure() {
	sampler := newSampler()
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-k.ctx.Done():
			// Nobody is waited for any more: what has ended is collected.
			for range 2 {
				if table, err := proc.ReadTable(); err == nil {
					sampler.reap(table)
				}
			}
			return
		case <-tick.C:
		}
		k.mu.Lock()
		watched := len(k.watchers) > 0
		k.mu.Unlock()
		if watched || k.limited || n%5 == 0 {
			k.sample(sampler)
		}
	}
}

func pids(ids []proc.ID) []int {
	var out []int
	for _, id := range ids {
		out = append(out, id.PID)
	}
	return out
}

func (k *Keeper) sample(sampler *sampler) {
	table, err := proc.ReadTable()
	if err != nil {
		return
	}
	sampler.reap(table)
	exposed, err := port.Exposed()
	looks := err == nil && !exposed.Equal(sampler.exposed)
	if looks {
		sampler.exposed = exposed
	}
	for name, u := range k.services {
		id, status := u.Process(), u.Status()
		if !status.State.Running() || id.PID == 0 {
			continue
		}
		cpu, memory := sampler.usage(table, id)
		notes, has := k.drivers[name].Notes()
		var reachable string
		if looks {
			if at := exposed.Of(pids(table.Belonging(id))); len(at) > 0 {
				reachable = at[0].String()
			}
		}
		over := k.drivers[name].Over(cpu, memory)
		var before string
		u.Amend(func(s *supervise.Status) {
			if looks {
				s.Exposed = reachable
			}
			if has {
				s.Notes = notes
			}
			s.Used(cpu, memory)
			before, s.Over = s.Over, over
		})
		if over != "" && before == "" {
			k.note(name, "over", journal.Warn, over)
		}
		k.touch(name)
	}
}
