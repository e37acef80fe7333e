package redis

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// followWait is how long the server waits for something to come.
const followWait = time.Second

// Follow takes the elements of a list, from its left end, or tells of the entries of a stream,
// whichever the key is.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	c := serverAt(in.Port)
	defer c.Close()
	told := false
	for {
		is, err := c.typeOf(ctx, w.What)
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

func followStream(ctx context.Context, c server, w kind.Watch, cursor string, emit kind.Emit) error {
	if cursor == "" {
		last, err := c.do(ctx, "XREVRANGE", w.What, "+", "-", "COUNT", 1)
		if err != nil {
			return err
		}
		cursor = "0-0"
		for _, m := range entries(last) {
			cursor = m.id
		}
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		answer, err := c.do(ctx, "XREAD", "COUNT", kind.EventsAtOnce, "BLOCK", followWait.Milliseconds(), "STREAMS", w.What, cursor)
		if err != nil {
			return err
		}
		streams, _ := answer.([]any)
		if len(streams) == 0 {
			continue
		}
		var events []outbox.Event
		if named, ok := streams[0].([]any); ok && len(named) == 2 {
			for _, m := range entries(named[1]) {
				data, err := json.Marshal(m.fields)
				if err != nil {
					return err
				}
				cursor = m.id
				events = append(events, outbox.Event{Source: m.id, Type: kind.Message, Subject: w.What + " " + m.id, Data: data})
			}
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
	}
}

// followList takes elements over a list of its own, so that none is lost that is not kept yet.
func followList(ctx context.Context, c server, w kind.Watch, emit kind.Emit) error {
	own := "neighbour:" + w.Trigger
	if err := emit(nil, "list"); err != nil {
		return err
	}
	for {
		answer, err := c.do(ctx, "LRANGE", own, 0, -1)
		if err != nil {
			return err
		}
		left := texts(answer)
		if len(left) == 0 {
			moved, err := c.do(ctx, "BLMOVE", w.What, own, "LEFT", "RIGHT", followWait.Seconds())
			for range kind.EventsAtOnce - 1 {
				if err != nil || moved == nil {
					break
				}
				moved, err = c.do(ctx, "LMOVE", w.What, own, "LEFT", "RIGHT")
			}
			if err != nil {
				return err
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
		if _, err := c.do(ctx, "LTRIM", own, len(left), -1); err != nil {
			return err
		}
	}
}

// Take appends to a list, or adds an entry to a stream, whichever the key is.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	is, err := s.typeOf(ctx, to)
	switch {
	case err != nil:
	case is == "stream":
		_, err = s.do(ctx, "XADD", to, "*", "type", e.Type, "subject", e.Subject, "at", e.At.UnixMilli(), "data", []byte(e.Data))
	default:
		_, err = s.do(ctx, "RPUSH", to, []byte(e.Data))
	}
	return err
}
