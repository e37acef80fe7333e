package keep

import (
	"time"

	"neighbour/internal/core/proc"
)

// sampler turns what processes have used in all into what they use now.
type sampler struct {
	before  map[proc.ID]usedUntil
	zombies map[int]bool
}

type usedUntil struct {
	at  time.Time
	cpu time.Duration
}

func newSampler() *sampler { return &sampler{before: map[proc.ID]usedUntil{}} }

// usage is what a service's processes use: the processor in percent of one
// core since the last sample, the memory in bytes.
func (s *sampler) usage(table proc.Table, main proc.ID) (percent float32, memory uint64) {
	ids := table.Belonging(main, "")
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
