package keep

import (
	"context"
	"runtime"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/usage"
)

// sampler turns what processes have used in all into what they use now.
type sampler struct {
	before  map[proc.ID]usedUntil
	machine proc.MachineUse // as it was at the sample before
	zombies map[int]bool
	exposed port.Sockets // as they were at the sample before
}

type usedUntil struct {
	at       time.Time
	cpu      time.Duration
	counters proc.Counters
}

func newSampler() *sampler { return &sampler{before: map[proc.ID]usedUntil{}} }

// usage returns what a service's processes use since the last sample.
func (s *sampler) usage(table proc.Table, main proc.ID) (u usage.Sample) {
	ids := table.Belonging(main)
	table.MeasureShared(ids)
	cpu, memory := table.Usage(ids)
	u.Memory, u.Processes = memory, len(ids)
	for _, id := range ids {
		if e := table[id.PID]; e != nil {
			u.Threads += e.Threads
		}
	}
	counters := proc.CountersOf(ids)
	u.Files = counters.Files
	now := time.Now()
	if last, ok := s.before[main]; ok && now.After(last.at) {
		// Processes that ended took their share of the sums with them.
		passed := now.Sub(last.at).Seconds()
		u.CPU = float32(100 * max(0, cpu-last.cpu).Seconds() / passed)
		u.Read = uint64(float64(counters.Read-min(counters.Read, last.counters.Read)) / passed)
		u.Written = uint64(float64(counters.Written-min(counters.Written, last.counters.Written)) / passed)
	}
	s.before[main] = usedUntil{now, cpu, counters}
	return u
}

// whole returns what the machine uses since the last sample; false at the first.
func (s *sampler) whole() (u usage.Sample, ok bool) {
	m, err := proc.ReadMachine()
	if err != nil {
		return u, false
	}
	last := s.machine
	s.machine = m
	busy, all := float64(m.Busy-last.Busy), float64(m.Busy+m.Idle-last.Busy-last.Idle)
	if last.Total == 0 || all <= 0 {
		return u, false
	}
	return usage.Sample{CPU: float32(100 * float64(runtime.NumCPU()) * busy / all), Memory: m.Memory}, true
}

// reap collects ended orphans of services. Children that this process
// started itself are waited for by those who did; only what is still there
// at a second look is nobody's.
func (s *sampler) reap(table proc.Table) {
	s.zombies = proc.Reap(table, s.zombies)
}

// askedFor is for how long usage is measured each second after somebody has asked
// for it.
const askedFor = 5 * time.Second

// saveUsage is how often what is kept of usage is written.
const saveUsage = time.Minute

// measure samples usage, asks kinds for their notes, and collects orphans: every
// second while somebody asks for usage, every 2 s while somebody watches, every
// 10 s otherwise.
func (k *Keeper) measure() {
	sampler := newSampler()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	saved := time.Now()
	defer k.keepUsage(true)
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
		watched, asked := k.watched(), time.Since(k.usageAsked) < askedFor
		k.mu.Unlock()
		if asked || n%2 == 0 && (watched || k.limited) || n%10 == 0 {
			k.sample(sampler)
		}
		if time.Since(saved) >= saveUsage {
			saved = time.Now()
			k.keepUsage(false)
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
	now, any := time.Now(), false
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
		any = true
		used := sampler.usage(table, id)
		k.usage.Add(name, now, used)
		cpu, memory := used.CPU, used.Memory
		notes, wrong, has := k.drivers[name].Notes()
		var reachable string
		if looks {
			if at := exposed.Of(pids(table.Belonging(id))); len(at) > 0 {
				reachable = at[0].String()
			}
		}
		over := k.drivers[name].Over(cpu, memory)
		misbehaves := k.drivers[name].Misbehaves()
		var before string
		u.Amend(func(s *supervise.Status) {
			if looks {
				s.Exposed = reachable
			}
			if has {
				s.Notes, s.Wrong = notes, wrong
			}
			s.Used(cpu, memory)
			before, s.Over, s.Misbehaves = s.Over, over, misbehaves
		})
		if over != "" && before == "" {
			k.note(name, "over", journal.Warn, over)
		}
		k.touch(name)
	}
	if machine, ok := sampler.whole(); ok && any {
		k.usage.Add(usage.Machine, now, machine)
	}
}

// keepUsage writes what is kept of usage; all, when the keeper ends.
func (k *Keeper) keepUsage(all bool) {
	rows := k.usage.Take(all)
	k.mu.Lock()
	forsaken := k.forsaken
	k.mu.Unlock()
	if len(rows) == 0 || forsaken {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(k.ctx), 5*time.Second)
	defer cancel()
	if err := k.history.SaveUsage(ctx, rows); err != nil {
		k.log.Error("usage can't be recorded", "why", err)
	}
}

// Usage returns what the services and the machine used over a period up to now,
// in so many parts.
func (k *Keeper) Usage(ctx context.Context, period time.Duration, parts int) (usage.Report, error) {
	k.mu.Lock()
	k.usageAsked = time.Now()
	k.mu.Unlock()
	to := time.Now()
	r := usage.Report{From: to.Add(-period), To: to, Cores: runtime.NumCPU(), Services: []usage.Series{}}
	if m, err := proc.ReadMachine(); err == nil {
		r.Memory = m.Total
	}
	step := usage.Fine
	if period > usage.KeepFine {
		step = usage.Coarse
	}
	kept := map[string][]usage.Row{}
	if period > usage.InMemory {
		var err error
		if kept, err = k.history.Usage(ctx, step, r.From); err != nil {
			return r, err
		}
	}
	series := func(name string) usage.Series {
		recent := k.usage.Recent(name)
		rows := recent
		if period > usage.InMemory {
			rows = append(kept[name], k.usage.Pending(name, step)...)
		}
		s := usage.NewSeries(name, rows, r.From, r.To, parts)
		if n := len(recent); n > 0 && to.Sub(recent[n-1].At) < 2*usage.Fine {
			s.Now = recent[n-1].Sample
		}
		return s
	}
	r.Machine = series(usage.Machine)
	k.each(func(sv *supervise.Service) { r.Services = append(r.Services, series(sv.Name())) })
	r.Summarise()
	return r, nil
}
