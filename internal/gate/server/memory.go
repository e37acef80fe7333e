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

// headroom is how many bytes of garbage may come before it is collected. The runtime's own
// rule, as much as is in use, has a gate that remembers little collect at every few hundred
// requests, which takes a tenth of its time.
const headroom = 32 << 20

// tendMemory has the gate collect garbage seldom while it is busy, and give memory back to the
// system whenever it has become quiet. Left alone, the runtime keeps for minutes what a crowd
// of new connections took.
func tendMemory(ctx context.Context) {
	read := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}, {Name: "/gc/heap/live:bytes"}}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var before, gaveBackAt uint64
	percent := 100
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(read)
		used, live := read[0].Value.Uint64(), max(read[1].Value.Uint64(), 1)
		if p := int(min(max(100*headroom/live, 100), 400)); p != percent {
			percent = p
			debug.SetGCPercent(p)
		}
		if used-before < quietUse && used-gaveBackAt > worthBack {
			debug.FreeOSMemory()
			gaveBackAt = used
		}
		before = used
	}
}
