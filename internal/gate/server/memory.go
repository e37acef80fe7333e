package server

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// When the gate gives memory back: it has used as much since it last did so, and next to
// nothing of late.
const (
	lookEvery = 2 * time.Second
	quietUse  = 256 << 10 // bytes within lookEvery
	worthBack = 8 << 20   // bytes
)

// Garbage is collected seldom as long as all of the gate takes little. The runtime's own rule,
// when there is as much as is in use, has a gate that remembers little collect at every few
// hundred requests, which takes a tenth of its time. From roomy on it has half of what is in use.
const (
	seldom = 400      // percent
	roomy  = 64 << 20 // bytes
)

// tendMemory has the gate collect garbage seldom while it is busy, and give memory back to the
// system whenever it has become quiet. Left alone, the runtime keeps for minutes what a crowd
// of new connections took.
func tendMemory(ctx context.Context) {
	read := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}, {Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/stacks:bytes"}}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	debug.SetMemoryLimit(roomy)
	debug.SetGCPercent(seldom)
	var before, gaveBackAt uint64
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(read)
		used, inUse := read[0].Value.Uint64(), read[1].Value.Uint64()+read[2].Value.Uint64()
		debug.SetMemoryLimit(int64(max(roomy, inUse+inUse/2)))
		if used-before < quietUse && used-gaveBackAt > worthBack {
			debug.FreeOSMemory()
			gaveBackAt = used
		}
		before = used
	}
}
