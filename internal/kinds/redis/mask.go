package redis

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// CheckMask says what is wrong with a rule, which is a pattern of keys.
func (Kind) CheckMask(string) error { return nil }

// keyspace finds the databases that have keys.
var keyspace = lazyregexp.New(`(?m)^db(\d+):`)

// Mask deletes keys by their patterns, in all databases, and has the server write its files anew.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	c := serverAt(in.Port)
	c.pool.MaxActive, c.pool.MaxIdle = 1, 1 // one, since each has a database that it has chosen
	defer c.Close()
	spaces, err := text(c.do(ctx, "INFO", "keyspace"))
	if err != nil {
		return nil, err
	}
	met := map[string]bool{}
	for _, db := range keyspace.FindAllStringSubmatch(spaces, -1) {
		if _, err := c.do(ctx, "SELECT", db[1]); err != nil {
			return nil, err
		}
		for _, rule := range rules {
			if err := c.each(ctx, rule, func(keys []string) error {
				met[rule] = true
				for _, key := range keys {
					// Of others than texts no value is looked for.
					if v, err := text(c.do(ctx, "GET", key)); err == nil && len(sample) < kind.SampleSize && len(v) >= kind.SampleLength {
						sample = append(sample, v[:min(len(v), 200)])
					}
					if _, err := c.do(ctx, "DEL", key); err != nil {
						return err
					}
				}
				return nil
			}); err != nil {
				return nil, err
			}
		}
	}
	for _, rule := range rules {
		if !met[rule] {
			return nil, fmt.Errorf("%q names nothing: no key is like that", rule)
		}
	}
	if _, err := c.do(ctx, "SAVE"); err != nil {
		return nil, err
	}
	if _, err := c.do(ctx, "BGREWRITEAOF"); err != nil {
		return nil, err
	}
	for {
		info, err := text(c.do(ctx, "INFO", "persistence"))
		if err != nil {
			return nil, err
		}
		if strings.Contains(info, "aof_rewrite_in_progress:0") && strings.Contains(info, "aof_rewrite_scheduled:0") {
			if strings.Contains(info, "aof_last_bgrewrite_status:err") {
				return nil, errors.New("the server could not write its append-only file anew")
			}
			return sample, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Scrub has nothing to do: the files were written anew.
func (Kind) Scrub(context.Context, *kind.Instance) error { return nil }
