package rabbitmq

import (
	"context"
	"errors"
	"fmt"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// Follow takes the messages of a queue. They are acknowledged once they are kept.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	facts, err := Kind{}.Facts(in)
	if err != nil {
		return err
	}
	conn, err := dial(ctx, facts["url"].Value)
	if err != nil {
		return err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	c, err := conn.Channel()
	if err != nil {
		return explain(err, "")
	}
	if err := c.Qos(kind.EventsAtOnce, 0, false); err != nil {
		return explain(err, "")
	}
	messages, err := c.ConsumeWithContext(ctx, w.What, "neighbour-"+w.Trigger, false, false, false, false, nil)
	if err != nil {
		return explain(err, w.What)
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		var events []outbox.Event
		var last amqp.Delivery
		take := func(d amqp.Delivery) {
			last = d
			source := ""
			if d.MessageId != "" {
				source = d.MessageId
			}
			events = append(events, kind.MessageEvent(source, "", w.What, d.Body))
		}
		d, ok := <-messages
		if !ok {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return errors.New("the connection was closed")
		}
		take(d)
		for more := true; more && len(events) < kind.EventsAtOnce; {
			select {
			case d, ok := <-messages:
				if more = ok; ok {
					take(d)
				}
			default:
				more = false
			}
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
		if err := last.Ack(true); err != nil {
			return explain(err, "")
		}
	}
}

// Take puts a message into a queue, which the broker confirms.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	return s.channel(ctx, func(c *amqp.Channel) error { return put(ctx, c, to, e) })
}

func put(ctx context.Context, c *amqp.Channel, to string, e outbox.Event) error {
	if err := c.Confirm(false); err != nil {
		return explain(err, "")
	}
	// What no queue gets comes back.
	back := c.NotifyReturn(make(chan amqp.Return, 1))
	confirmed, err := c.PublishWithDeferredConfirmWithContext(ctx, "", to, true, false, amqp.Publishing{ContentType: "application/json", DeliveryMode: amqp.Persistent, Body: e.Data, Type: e.Type, MessageId: e.Source, Timestamp: time.Now()})
	if err != nil {
		return explain(err, to)
	}
	ok, err := confirmed.WaitContext(ctx)
	if err != nil {
		return err
	}
	select {
	case r := <-back:
		return fmt.Errorf("there is no queue %q: %s", to, r.ReplyText)
	default:
	}
	if !ok {
		return errors.New("the broker refused it")
	}
	return nil
}
