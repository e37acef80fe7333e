package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"neighbour/internal/core/keeper/keep"
)

// Fired is an event that is to be sent by hand.
type Fired struct {
	// Data is what there is to know; left out: that of the latest event of the trigger.
	Data json.RawMessage `json:"data,omitempty"`
}

// Number is the number of an event.
type Number struct {
	ID int64 `json:"id"`
}

// Paused says whether a trigger is to be paused.
type Paused struct {
	Paused bool `json:"paused"`
}

// Clock is a time for schedules.
type Clock struct {
	// To is the time; left out: the machine's.
	To *time.Time `json:"to,omitempty"`
}

var (
	triggersEndpoint = endpoint[none, keep.Triggers]{method: "GET", path: "/triggers", refusal: 422, summary: "The triggers, and how they are doing"}
	nextEndpoint     = endpoint[none, []keep.Coming]{method: "GET", path: "/triggers/next", refusal: 422, summary: "What comes next by the clock", query: []parameter{{"n", "how many at most; 10 if it is left out", "integer"}}}
	fireEndpoint     = endpoint[Fired, Number]{method: "POST", path: "/triggers/{name}/fire", refusal: 422, summary: "Send an event by hand"}
	pauseEndpoint    = endpoint[Paused, Done]{method: "POST", path: "/triggers/{name}/pause", refusal: 422, summary: "Have a trigger send nothing, or go on", details: "Events are kept meanwhile."}
	retryEndpoint    = endpoint[none, Number]{method: "POST", path: "/events/{id}/retry", refusal: 422, summary: "Send an event once more", details: "One that was put aside stays the same event; one that has arrived becomes another."}
	dropEndpoint     = endpoint[none, Done]{method: "POST", path: "/events/{id}/drop", refusal: 422, summary: "Have an event that waits or was put aside not be sent"}
	clockEndpoint    = endpoint[Clock, Done]{method: "POST", path: "/clock", refusal: 422, summary: "Have schedules take it for another time", details: "From then on it goes as always. What comes at that very time happens."}
)

func (s *Server) handleTriggers() {
	handle(s, triggersEndpoint, func(*http.Request, none) (keep.Triggers, func(), error) {
		out, err := s.keeper.Triggers()
		return out, nil, err
	})
	handle(s, nextEndpoint, func(r *http.Request, _ none) ([]keep.Coming, func(), error) {
		n, _ := strconv.Atoi(r.URL.Query().Get("n"))
		if n < 1 || n > 1000 {
			n = 10
		}
		out, err := s.keeper.Coming(n)
		return out, nil, err
	})
	handle(s, fireEndpoint, func(r *http.Request, in Fired) (Number, func(), error) {
		id, err := s.keeper.FireTrigger(asked(r), r.PathValue("name"), in.Data)
		return Number{id}, nil, err
	})
	handle(s, pauseEndpoint, func(r *http.Request, in Paused) (Done, func(), error) {
		return Done{}, nil, s.keeper.PauseTrigger(r.PathValue("name"), in.Paused)
	})
	handle(s, retryEndpoint, func(r *http.Request, _ none) (Number, func(), error) {
		id, err := exchangeID(r)
		if err == nil {
			id, err = s.keeper.RetryEvent(asked(r), id)
		}
		return Number{id}, nil, err
	})
	handle(s, dropEndpoint, func(r *http.Request, _ none) (Done, func(), error) {
		id, err := exchangeID(r)
		if err == nil {
			err = s.keeper.DropEvent(r.Context(), id)
		}
		return Done{}, nil, err
	})
	handle(s, clockEndpoint, func(_ *http.Request, in Clock) (Done, func(), error) {
		var to time.Time
		if in.To != nil {
			to = *in.To
		}
		return Done{}, nil, s.keeper.SetClock(to)
	})
}

// Triggers asks how the triggers are doing.
func (c *Client) Triggers(ctx context.Context) (keep.Triggers, error) {
	return call(ctx, c, triggersEndpoint, none{})
}

// NextTriggers asks what comes next by the clock, n at most.
func (c *Client) NextTriggers(ctx context.Context, n int) ([]keep.Coming, error) {
	var out []keep.Coming
	err := c.do(ctx, nextEndpoint.method, nextEndpoint.path+"?"+url.Values{"n": {strconv.Itoa(n)}}.Encode(), nil, &out)
	return out, err
}

// FireTrigger sends an event by hand, and returns its number.
func (c *Client) FireTrigger(ctx context.Context, name string, data json.RawMessage) (int64, error) {
	n, err := call(ctx, c, fireEndpoint, Fired{data}, name)
	return n.ID, err
}

// PauseTrigger has a trigger send nothing, or go on.
func (c *Client) PauseTrigger(ctx context.Context, name string, paused bool) error {
	_, err := call(ctx, c, pauseEndpoint, Paused{paused}, name)
	return err
}

// RetryEvent sends an event once more, and returns its number.
func (c *Client) RetryEvent(ctx context.Context, id int64) (int64, error) {
	n, err := call(ctx, c, retryEndpoint, none{}, strconv.FormatInt(id, 10))
	return n.ID, err
}

// DropEvent has an event not be sent.
func (c *Client) DropEvent(ctx context.Context, id int64) error {
	_, err := call(ctx, c, dropEndpoint, none{}, strconv.FormatInt(id, 10))
	return err
}

// SetClock has schedules take it for another time; nil is the machine's.
func (c *Client) SetClock(ctx context.Context, to *time.Time) error {
	_, err := call(ctx, c, clockEndpoint, Clock{to})
	return err
}
