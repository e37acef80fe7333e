package redis

import (
	"context"
	"strings"
	"time"

	"neighbour/internal/core/kind"
)

// lockLimit is for how long the server keeps clients from writing if nobody tells it otherwise.
const lockLimit = time.Minute

// Lock has clients that write wait, once all that was written is in the append-only file.
func (Kind) Lock(ctx context.Context, in *kind.Instance) (unlock func(), err error) {
	c := serverAt(in.Port)
	unlock = func() {
		free, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		_, _ = c.do(free, "CLIENT", "UNPAUSE")
		_ = c.Close()
	}
	if _, err := c.do(ctx, "CLIENT", "PAUSE", lockLimit.Milliseconds(), "WRITE"); err != nil {
		// Before version 6.2 there was no pause for those alone that write.
		if _, err := c.do(ctx, "CLIENT", "PAUSE", lockLimit.Milliseconds()); err != nil {
			unlock()
			return nil, err
		}
		return unlock, nil
	}
	for {
		info, err := text(c.do(ctx, "INFO", "persistence"))
		if err != nil {
			unlock()
			return nil, err
		}
		if !strings.Contains(info, "aof_enabled:1") || strings.Contains(info, "aof_buffer_length:0\r") {
			return unlock, nil
		}
		select {
		case <-ctx.Done():
			unlock()
			return nil, ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
}
