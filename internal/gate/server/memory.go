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
	quietFor  = 2 * time.Second
	quietUse  = 256 << 10 // bytes within quietFor
	worthBack = 8 << 20   // bytes
)

// giveBack returns memory to the system whenever the gate has become quiet. Left alone, the
// runtime collects at twice what is in use, and keeps for minutes what a crowd of new
// connections took.
func giveBack(ctx context.Context) {
	used := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	tick := time.NewTicker(quietFor)
	defer tick.Stop()
	var before, gaveBackAt uint64
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		metrics.Read(used)
		now := used[0].Value.Uint64()
		if now-before < quietUse && now-gaveBackAt > worthBack {
			debug.FreeOSMemory()
			gaveBackAt = now
		}
		before = now
	}
}
