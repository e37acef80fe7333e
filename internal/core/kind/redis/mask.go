package redis

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"neighbour/internal/core/kind"
)

// CheckMask says what is wrong with a rule, which is a pattern of keys.
func (Kind) CheckMask(string) error { return nil }

// Mask deletes keys by their patterns, and has the server write its files anew.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) error {
	c, err := clientOf(in)
	if err != nil {
		return err
	}
	defer c.Close()
	for _, rule := range rules {
		keys, met := c.Scan(ctx, 0, rule, 1000).Iterator(), false
		for keys.Next(ctx) {
			met = true
			if err := c.Del(ctx, keys.Val()).Err(); err != nil {
				return err
			}
		}
		if err := keys.Err(); err != nil {
			return err
		}
		if !met {
			return fmt.Errorf("%q names nothing: no key is like that", rule)
		}
	}
	if err := c.Save(ctx).Err(); err != nil {
		return err
	}
	if err := c.BgRewriteAOF(ctx).Err(); err != nil {
		return err
	}
	for {
		info, err := c.Info(ctx, "persistence").Result()
		if err != nil {
			return err
		}
		if strings.Contains(info, "aof_rewrite_in_progress:0") && strings.Contains(info, "aof_rewrite_scheduled:0") {
			if strings.Contains(info, "aof_last_bgrewrite_status:err") {
				return errors.New("the server could not write its append-only file anew")
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Scrub has nothing to do: the files were written anew.
func (Kind) Scrub(context.Context, *kind.Instance) error { return nil }
