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
	c, err := clientOf(in)
	if err != nil {
		return nil, err
	}
	unlock = func() {
		free, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		_ = c.Do(free, "CLIENT", "UNPAUSE").Err()
		_ = c.Close()
	}
	if err := c.Do(ctx, "CLIENT", "PAUSE", lockLimit.Milliseconds(), "WRITE").Err(); err != nil {
		// Before version 6.2 there was no pause for those alone that write.
		if err := c.Do(ctx, "CLIENT", "PAUSE", lockLimit.Milliseconds()).Err(); err != nil {
			unlock()
			return nil, err
		}
		return unlock, nil
	}
	for {
		info, err := c.Info(ctx, "persistence").Result()
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
