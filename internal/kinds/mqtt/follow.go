package mqtt

import (
	"context"
	"errors"
	"time"

	client "github.com/eclipse/paho.mqtt.golang"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// optionsOf are those of a client that says it has this name, or none.
func optionsOf(facts map[string]kind.Fact, id string) *client.ClientOptions {
	return client.NewClientOptions().AddBroker("tcp://" + facts["host"].Value + ":" + facts["port"].Value).SetClientID(id).
		SetUsername(facts["user"].Value).SetPassword(facts["password"].Value).SetConnectTimeout(5 * time.Second).SetAutoReconnect(false)
}

// Follow tells of the messages of a topic, or of those that a filter means. The broker keeps
// them (MQTT 3.1.1, section 3.1.2.4) until they are acknowledged.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	facts, err := Kind{}.Facts(in)
	if err != nil {
		return err
	}
	o := optionsOf(facts, "neighbour-trigger-"+w.Trigger)
	messages, lost := make(chan client.Message, kind.EventsAtOnce), make(chan error, 1)
	o.SetCleanSession(false).SetAutoAckDisabled(true).SetOrderMatters(true)
	o.SetConnectionLostHandler(func(_ client.Client, err error) { lost <- err })
	heard := func(_ client.Client, m client.Message) {
		select {
		case messages <- m:
		case <-ctx.Done():
		}
	}
	o.SetDefaultPublishHandler(heard) // what had come before it subscribes again
	c := client.NewClient(o)
	if err := await(ctx, c.Connect()); err != nil {
		return err
	}
	defer c.Disconnect(50)
	if err := await(ctx, c.Subscribe(w.What, 1, heard)); err != nil {
		return err
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		var all []client.Message
		select {
		case m := <-messages:
			all = append(all, m)
		case err := <-lost:
			return errors.Join(errors.New("the connection was closed"), err)
		case <-ctx.Done():
			return ctx.Err()
		}
		for len(messages) > 0 {
			all = append(all, <-messages)
		}
		var events []outbox.Event
		for _, m := range all {
			if !m.Retained() { // that is from before
				events = append(events, kind.MessageEvent("", m.Topic(), m.Topic(), m.Payload()))
			}
		}
		if err := emit(events, cursor); err != nil {
			return err
		}
		for _, m := range all {
			m.Ack()
		}
	}
}

// Take publishes to a topic, and waits until the broker has it.
func (s *source) Take(ctx context.Context, to string, e outbox.Event) error {
	s.sending.Lock()
	defer s.sending.Unlock()
	if s.sender == nil || !s.sender.IsConnected() {
		c := client.NewClient(optionsOf(s.facts, "").SetCleanSession(true))
		if err := await(ctx, c.Connect()); err != nil {
			return err
		}
		s.sender = c
	}
	return await(ctx, s.sender.Publish(to, 1, false, []byte(e.Data)))
}
