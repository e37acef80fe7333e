package mail

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
	emulator "neighbour/internal/emulator/mail"
)

// followEvery is how often the inbox is looked at.
const followEvery = 300 * time.Millisecond

// Follow tells of mails that come. What it watches is a recipient, or * for all.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	page, err := inbox(in)
	if err != nil {
		return err
	}
	s := &source{page: page, root: in.Root, http: &http.Client{}}
	defer s.Close()
	first, told := cursor == "", false
	for {
		var fresh []emulator.Mail
		after := ""
		for more := true; more; {
			var l emulator.Listed
			if err := s.ask(ctx, http.MethodGet, "/messages?limit=200&after="+url.QueryEscape(after), nil, &l); err != nil {
				return err
			}
			more = l.More && !first
			for _, m := range l.Messages {
				if m.ID <= cursor {
					more = false
					break
				}
				fresh, after = append(fresh, m), m.ID
			}
		}
		place := cursor
		if len(fresh) > 0 {
			place = fresh[0].ID
		} else if first {
			place = "0"
		}
		slices.Reverse(fresh)
		var events []outbox.Event
		for _, m := range fresh {
			if w.What != "*" && !slices.ContainsFunc(m.To, func(to string) bool { return strings.EqualFold(to, w.What) }) {
				continue
			}
			data, err := json.Marshal(m)
			if err != nil {
				return err
			}
			events = append(events, outbox.Event{Source: m.ID, Key: m.ID, Type: kind.Message, Subject: m.Subject, At: m.At, Data: data})
		}
		if first {
			events = nil // what had come before
		}
		if place != cursor || !told {
			told = true
			if err := emit(events, place); err != nil {
				return err
			}
		}
		cursor, first = place, false
		if !kind.Pause(ctx, followEvery) {
			return ctx.Err()
		}
	}
}
