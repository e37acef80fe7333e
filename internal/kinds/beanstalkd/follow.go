package beanstalkd

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/beanstalkd/go-beanstalk"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/record/outbox"
)

// Follow takes the jobs of a tube. They are deleted once they are kept.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	c, err := beanstalk.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(in.Port), 5*time.Second)
	if err != nil {
		return errors.New(probe.Explain(err))
	}
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	defer c.Close()
	tubes := beanstalk.NewTubeSet(c, w.What)
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for ctx.Err() == nil {
		var events []outbox.Event
		var ids []uint64
		for wait := time.Second; len(events) < kind.EventsAtOnce; wait = 0 {
			id, body, err := tubes.Reserve(wait)
			var answer beanstalk.ConnError
			if errors.As(err, &answer) && answer.Err == beanstalk.ErrTimeout {
				break
			}
			if err != nil {
				return errors.New(probe.Explain(err))
			}
			ids = append(ids, id)
			events = append(events, kind.MessageEvent("", "", w.What+" "+strconv.FormatUint(id, 10), body))
		}
		if len(events) == 0 {
			continue
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
		for _, id := range ids {
			if err := c.Delete(id); err != nil {
				return errors.New(probe.Explain(err))
			}
		}
	}
	return ctx.Err()
}

// Take puts a job into a tube.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	const usual, limit = 1024, time.Minute // priority, and the time to work on it
	return s.use(ctx, func(c *beanstalk.Conn) error {
		_, err := beanstalk.NewTube(c, to).Put(e.Data, usual, 0, limit)
		return err
	})
}
