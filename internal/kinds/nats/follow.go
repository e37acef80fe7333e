package nats

import (
	"context"
	"errors"
	"time"

	client "github.com/nats-io/nats.go"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/record/outbox"
)

// flushTime is how long the server may take to confirm.
const flushTime = 5 * time.Second

// Follow tells of the messages of a subject. The server keeps none for who doesn't listen.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	c, err := connect(ctx, in)
	if err != nil {
		return err
	}
	defer c.Close()
	messages := make(chan *client.Msg, 10*kind.EventsAtOnce)
	if _, err := c.ChanSubscribe(w.What, messages); err != nil {
		return errors.New(probe.Explain(err))
	}
	closed := c.StatusChanged(client.CLOSED)
	if err := c.FlushTimeout(flushTime); err != nil {
		return errors.New(probe.Explain(err))
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		var events []outbox.Event
		select {
		case m := <-messages:
			events = append(events, kind.MessageEvent("", m.Subject, m.Subject, m.Data))
		case <-closed:
			return errors.New("the connection was closed")
		case <-ctx.Done():
			return ctx.Err()
		}
		for len(messages) > 0 && len(events) < kind.EventsAtOnce {
			m := <-messages
			events = append(events, kind.MessageEvent("", m.Subject, m.Subject, m.Data))
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
	}
}

// Take publishes to a subject.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	c, err := s.connection(ctx)
	if err != nil {
		return err
	}
	if err := c.Publish(to, e.Data); err != nil {
		return errors.New(probe.Explain(err))
	}
	if err := c.FlushTimeout(flushTime); err != nil {
		return errors.New(probe.Explain(err))
	}
	return nil
}
