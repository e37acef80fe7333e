package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"neighbour/internal/core/record/traffic"
	"neighbour/internal/gate/control"
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
	trafficEndpoint  = endpoint[none, control.Traffic]{method: "GET", path: "/traffic", refusal: 422, summary: "What passed the gate and between services, the newest first", query: trafficQuery}
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
		if n < 1 || n > routesKept {
			n = 500
		}
		t, err := s.passed(r.Context(), gate, dir(), q.Get("filter"), before, n)
		return t, nil, err
	})
	handle(s, routesEndpoint, func(r *http.Request, _ none) ([]traffic.RouteSummary, func(), error) {
		t, err := s.passed(r.Context(), gate, dir(), r.URL.Query().Get("filter"), 0, routesKept)
		return traffic.Routes(t.Exchanges), nil, err
	})
	handle(s, exchangeEndpoint, func(r *http.Request, _ none) (traffic.Shown, func(), error) {
		id, err := exchangeID(r)
		if err != nil {
			return traffic.Shown{}, nil, err
		}
		shown, err := s.exchange(r.Context(), gate, dir(), id)
		return shown, nil, err
	})
	handle(s, replayEndpoint, func(r *http.Request, in traffic.Repeat) (traffic.Shown, func(), error) {
		id, err := exchangeID(r)
		if err != nil {
			return traffic.Shown{}, nil, err
		}
		if f, err := s.keeper.Exchange(r.Context(), id); err == nil {
			again, err := s.keeper.Again(asked(r), f, in)
			if err != nil {
				return traffic.Shown{}, nil, err
			}
			shown, err := s.exchange(r.Context(), gate, dir(), again)
			return shown, nil, err
		}
		shown, err := gate.Replay(r.Context(), dir(), id, in)
		s.explain(r.Context(), &shown)
		return shown, nil, err
	})
	handle(s, clearEndpoint, func(r *http.Request, _ none) (Done, func(), error) {
		err := gate.Clear(r.Context(), dir())
		if errors.Is(err, control.ErrNoGate) {
			err = nil
		}
		return Done{}, nil, errors.Join(err, s.keeper.ClearPassed(r.Context()))
	})
}

// passed lists what passed the gate, and between services beside it.
func (s *Server) passed(ctx context.Context, gate *control.Client, dir, filter string, before int64, n int) (control.Traffic, error) {
	others, err := s.keeper.Passed(ctx, filter, before, n)
	if err != nil {
		return control.Traffic{}, err
	}
	t, err := gate.Traffic(ctx, dir, filter, before, n)
	aside, problem := s.keeper.PutAside(ctx, filter)
	if errors.Is(err, control.ErrNoGate) && (len(others) > 0 || s.keeper.Passes()) {
		err = nil // it isn't needed for these
	}
	if err = errors.Join(err, problem); err != nil {
		return t, err
	}
	t.Exchanges = append(t.Exchanges, others...)
	slices.SortFunc(t.Exchanges, func(a, b traffic.Exchange) int { return cmp.Compare(b.ID, a.ID) })
	t.Exchanges = t.Exchanges[:min(n, len(t.Exchanges))]
	if t.Exchanges == nil {
		t.Exchanges = []traffic.Exchange{}
	}
	if before == 0 {
		t.Aside = aside
	}
	t.Says = traffic.Sum(t.Says, others, len(aside), time.Now())
	return t, nil
}

// exchange returns an exchange whole, with those that it has its trace in common with.
func (s *Server) exchange(ctx context.Context, gate *control.Client, dir string, id int64) (traffic.Shown, error) {
	var shown traffic.Shown
	f, err := s.keeper.Exchange(ctx, id)
	if err == nil {
		shown = f.Show()
	} else if shown, err = gate.Exchange(ctx, dir, id); err != nil {
		return shown, err
	}
	s.explain(ctx, &shown)
	if shown.Trace == "" {
		return shown, nil
	}
	if t, err := s.passed(ctx, gate, dir, shown.Trace, 0, mostRelated); err == nil && len(t.Exchanges) > 1 {
		shown.Related = t.Exchanges
		slices.SortStableFunc(shown.Related, func(a, b traffic.Exchange) int { return a.Began.Compare(b.Began) })
	}
	return shown, nil
}

// mostRelated is how many exchanges of one way are shown.
const mostRelated = 50

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
