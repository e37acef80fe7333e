package redis

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	client "github.com/redis/go-redis/v9"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/outbox"
)

func clientOf(in *kind.Instance) (*client.Client, error) {
	facts, err := Kind{}.Facts(in)
	if err != nil {
		return nil, err
	}
	o, err := client.ParseURL(facts["url"].Value)
	if err != nil {
		return nil, err
	}
	o.MaxRetries, o.PoolSize, o.ContextTimeoutEnabled = -1, 2, true
	return client.NewClient(o), nil
}

// followWait is how long the server waits for something to come.
const followWait = time.Second

// Follow takes the elements of a list, from its left end, or tells of the entries of a stream,
// whichever the key is.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	c, err := clientOf(in)
	if err != nil {
		return err
	}
	defer c.Close()
	told := false
	for {
		is, err := c.Type(ctx, w.What).Result()
		switch {
		case err != nil:
			return err
		case is == "stream":
			return followStream(ctx, c, w, cursor, emit)
		case is == "list" || cursor == "list":
			return followList(ctx, c, w, emit)
		case is != "none":
			return fmt.Errorf("%s is a %s; what can be watched is a list or a stream", w.What, is)
		}
		if cursor == "" { // what comes first is wanted, too
			cursor = "0-0"
		}
		if !told {
			told = true
			if err := emit(nil, cursor); err != nil {
				return err
			}
		}
		if !kind.Pause(ctx, 100*time.Millisecond) {
			return ctx.Err()
		}
	}
}

func followStream(ctx context.Context, c *client.Client, w kind.Watch, cursor string, emit kind.Emit) error {
	if cursor == "" {
		last, err := c.XRevRangeN(ctx, w.What, "+", "-", 1).Result()
		if err != nil {
			return err
		}
		if cursor = "0-0"; len(last) > 0 {
			cursor = last[0].ID
		}
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		got, err := c.XRead(ctx, &client.XReadArgs{Streams: []string{w.What, cursor}, Count: kind.EventsAtOnce, Block: followWait}).Result()
		if errors.Is(err, client.Nil) {
			continue
		}
		if err != nil {
			return err
		}
		var events []outbox.Event
		for _, s := range got {
			for _, m := range s.Messages {
				data, err := json.Marshal(m.Values)
				if err != nil {
					return err
				}
				cursor = m.ID
				events = append(events, outbox.Event{Source: m.ID, Type: kind.Message, Subject: w.What + " " + m.ID, Data: data})
			}
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
	}
}

// followList takes elements over a list of its own, so that none is lost that is not kept yet.
func followList(ctx context.Context, c *client.Client, w kind.Watch, emit kind.Emit) error {
	own := "neighbour:" + w.Trigger
	if err := emit(nil, "list"); err != nil {
		return err
	}
	for {
		left, err := c.LRange(ctx, own, 0, -1).Result()
		if err != nil {
			return err
		}
		if len(left) == 0 {
			_, err := c.BLMove(ctx, w.What, own, "LEFT", "RIGHT", followWait).Result()
			if errors.Is(err, client.Nil) {
				continue
			}
			if err != nil {
				return err
			}
			for range kind.EventsAtOnce - 1 {
				if err := c.LMove(ctx, w.What, own, "LEFT", "RIGHT").Err(); errors.Is(err, client.Nil) {
					break
				} else if err != nil {
					return err
				}
			}
			continue
		}
		var events []outbox.Event
		for _, text := range left {
			events = append(events, kind.MessageEvent("", "", w.What, []byte(text)))
		}
		if err := emit(events, "list"); err != nil {
			return err
		}
		if err := c.LTrim(ctx, own, int64(len(left)), -1).Err(); err != nil {
			return err
		}
	}
}

// Take appends to a list, or adds an entry to a stream, whichever the key is.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	is, err := s.c.Type(ctx, to).Result()
	switch {
	case err != nil:
		return err
	case is == "stream":
		return s.c.XAdd(ctx, &client.XAddArgs{Stream: to, Values: []string{"type", e.Type, "subject", e.Subject, "at", strconv.FormatInt(e.At.UnixMilli(), 10), "data", string(e.Data)}}).Err()
	}
	return s.c.RPush(ctx, to, []byte(e.Data)).Err()
}
