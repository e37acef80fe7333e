package redis

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/lazyregexp"
)

// CheckMask says what is wrong with a rule, which is a pattern of keys.
func (Kind) CheckMask(string) error { return nil }

// keyspace finds the databases that have keys.
var keyspace = lazyregexp.New(`(?m)^db(\d+):`)

// Mask deletes keys by their patterns, in all databases, and has the server write its files anew.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	all, err := clientOf(in)
	if err != nil {
		return nil, err
	}
	defer all.Close()
	c := all.Conn() // one, since each has a database that it has chosen
	defer c.Close()
	spaces, err := c.Info(ctx, "keyspace").Result()
	if err != nil {
		return nil, err
	}
	met := map[string]bool{}
	for _, db := range keyspace.FindAllStringSubmatch(spaces, -1) {
		n, err := strconv.Atoi(db[1])
		if err == nil {
			err = c.Select(ctx, n).Err()
		}
		if err != nil {
			return nil, err
		}
		for _, rule := range rules {
			keys := c.Scan(ctx, 0, rule, 1000).Iterator()
			for keys.Next(ctx) {
				met[rule] = true
				// Of others than texts no value is looked for.
				if v, err := c.Get(ctx, keys.Val()).Result(); err == nil && len(sample) < kind.SampleSize && len(v) >= kind.SampleLength {
					sample = append(sample, v[:min(len(v), 200)])
				}
				if err := c.Del(ctx, keys.Val()).Err(); err != nil {
					return nil, err
				}
			}
			if err := keys.Err(); err != nil {
				return nil, err
			}
		}
	}
	for _, rule := range rules {
		if !met[rule] {
			return nil, fmt.Errorf("%q names nothing: no key is like that", rule)
		}
	}
	if err := c.Save(ctx).Err(); err != nil {
		return nil, err
	}
	if err := c.BgRewriteAOF(ctx).Err(); err != nil {
		return nil, err
	}
	for {
		info, err := c.Info(ctx, "persistence").Result()
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
