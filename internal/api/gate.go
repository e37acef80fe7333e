package api

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"neighbour/internal/gate/control"
	"neighbour/internal/gate/traffic"
)

var trafficQuery = []parameter{
	{"filter", "words that must all match: a part of the method, name, path, service or status; 5xx; >200ms; >1MB; -word for those that it does not match", "string"},
	{"before", "only those with a lower number", "integer"},
	{"n", "how many at most; 500 if it is left out", "integer"},
}

// routesKept is how many requests routes are summed up of, at most.
const routesKept = 5000

var (
	gateEndpoint     = endpoint[none, control.State]{method: "GET", path: "/gate", refusal: 422, summary: "What the gate does: its ports, and where its names lead"}
	trafficEndpoint  = endpoint[none, control.Traffic]{method: "GET", path: "/traffic", refusal: 422, summary: "The requests that passed the gate, the newest first", query: trafficQuery}
	exchangeEndpoint = endpoint[none, traffic.Shown]{method: "GET", path: "/traffic/{id}", refusal: 422, summary: "A request and its answer, taken apart",
		details: "Values are as they are; those that are not to be shown are marked as secret."}
	replayEndpoint = endpoint[traffic.Repeat, traffic.Shown]{method: "POST", path: "/traffic/{id}/replay", refusal: 422, summary: "Make a request again, as it was or changed"}
	routesEndpoint = endpoint[none, []traffic.RouteSummary]{method: "GET", path: "/traffic/routes", refusal: 422, summary: "The requests summed up by their routes, the slowest first", query: trafficQuery[:1]}
	clearEndpoint  = endpoint[none, Done]{method: "POST", path: "/traffic/clear", refusal: 422, summary: "Forget what passed"}
)

func (s *Server) handleGate() {
	gate := control.NewClient()
	dir := func() string { return s.keeper.Snapshot().Dir }
	handle(s, gateEndpoint, func(r *http.Request, _ none) (control.State, func(), error) {
		state, err := gate.State(r.Context())
		return state, nil, err
	})
	handle(s, trafficEndpoint, func(r *http.Request, _ none) (control.Traffic, func(), error) {
		q := r.URL.Query()
		before, _ := strconv.ParseInt(q.Get("before"), 10, 64)
		n, _ := strconv.Atoi(q.Get("n"))
		t, err := gate.Traffic(r.Context(), dir(), q.Get("filter"), before, n)
		return t, nil, err
	})
	handle(s, routesEndpoint, func(r *http.Request, _ none) ([]traffic.RouteSummary, func(), error) {
		t, err := gate.Traffic(r.Context(), dir(), r.URL.Query().Get("filter"), 0, routesKept)
		return traffic.Routes(t.Exchanges), nil, err
	})
	handle(s, exchangeEndpoint, func(r *http.Request, _ none) (traffic.Shown, func(), error) {
		id, err := exchangeID(r)
		if err != nil {
			return traffic.Shown{}, nil, err
		}
		shown, err := gate.Exchange(r.Context(), dir(), id)
		s.explain(r.Context(), &shown)
		return shown, nil, err
	})
	handle(s, replayEndpoint, func(r *http.Request, in traffic.Repeat) (traffic.Shown, func(), error) {
		id, err := exchangeID(r)
		if err != nil {
			return traffic.Shown{}, nil, err
		}
		shown, err := gate.Replay(r.Context(), dir(), id, in)
		s.explain(r.Context(), &shown)
		return shown, nil, err
	})
	handle(s, clearEndpoint, func(r *http.Request, _ none) (Done, func(), error) {
		return Done{}, nil, gate.Clear(r.Context(), dir())
	})
}

// explain adds what the keeper knows of an answer that was not meant.
func (s *Server) explain(ctx context.Context, e *traffic.Shown) {
	if e.Service == "" || e.Open {
		return
	}
	e.Why = s.keeper.Explain(e.Service, e.Path, e.Status)
	if !e.Failed() {
		return
	}
	took := time.Duration(e.TookMS * float64(time.Millisecond))
	for _, l := range s.keeper.Complaints(ctx, e.Service, e.Began, e.Began.Add(took)) {
		e.Printed = append(e.Printed, traffic.Line{Service: l.Service, At: l.At, Text: l.Text})
	}
}

func exchangeID(r *http.Request) (int64, error) {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		return 0, &BadRequestError{err}
	}
	return id, nil
}

// Gate asks what the gate does.
func (c *Client) Gate(ctx context.Context) (control.State, error) {
	return call(ctx, c, gateEndpoint, none{})
}

// Traffic lists the requests that passed the gate and that a filter lets through, the newest
// first, n at most, those with a number lower than before if that isn't 0.
func (c *Client) Traffic(ctx context.Context, filter string, before int64, n int) (control.Traffic, error) {
	var t control.Traffic
	q := url.Values{"filter": {filter}, "before": {strconv.FormatInt(before, 10)}, "n": {strconv.Itoa(n)}}
	err := c.do(ctx, trafficEndpoint.method, trafficEndpoint.path+"?"+q.Encode(), nil, &t)
	return t, err
}

// Routes sums up what passed the gate by routes.
func (c *Client) Routes(ctx context.Context, filter string) ([]traffic.RouteSummary, error) {
	var out []traffic.RouteSummary
	err := c.do(ctx, routesEndpoint.method, routesEndpoint.path+"?"+url.Values{"filter": {filter}}.Encode(), nil, &out)
	return out, err
}

// Exchange asks for a request and its answer.
func (c *Client) Exchange(ctx context.Context, id int64) (traffic.Shown, error) {
	return call(ctx, c, exchangeEndpoint, none{}, strconv.FormatInt(id, 10))
}

// Replay makes a request again, as it is changed, and returns what came of it.
func (c *Client) Replay(ctx context.Context, id int64, change traffic.Repeat) (traffic.Shown, error) {
	return call(ctx, c, replayEndpoint, change, strconv.FormatInt(id, 10))
}

// ClearTraffic forgets what passed.
func (c *Client) ClearTraffic(ctx context.Context) error {
	_, err := call(ctx, c, clearEndpoint, none{})
	return err
}
