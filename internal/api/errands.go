package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/errand"
)

// Arguments are what an errand is run with.
type Arguments struct {
	Args []string `json:"args"`
}

var (
	errandsEndpoint   = endpoint[none, []insight.Errand]{method: "GET", path: "/errands", summary: "The errands, each with its latest runs"}
	runErrandEndpoint = endpoint[Arguments, errand.Run]{method: "POST", path: "/errands/{name}/run", code: 202, refusal: 422, summary: "Run an errand, once what it needs is ready",
		details: "The answer comes when it has begun. One that wants the terminal can't be run so."}
	errandOutputEndpoint = endpoint[none, keep.ErrandOutput]{method: "GET", path: "/runs/{id}", refusal: 404, summary: "How a run of an errand is, and what it has printed",
		query: []parameter{{"from", "the place from which on it is asked for; 0 if it is left out", "integer"}}}
	cancelErrandEndpoint = endpoint[none, Done]{method: "POST", path: "/runs/{id}/cancel", refusal: 422, summary: "End a run of an errand, also one that a terminal runs"}
	migrationsEndpoint   = endpoint[none, launch.Migrations]{method: "GET", path: "/services/{name}/migrations", refusal: 422, summary: "The migrations of a database: which ran, and which are due"}
	lossEndpoint         = endpoint[Names, []keep.Loss]{method: "POST", path: "/loss", refusal: 422, summary: "What emptying the data of services would take away"}
	resetEndpoint        = endpoint[Names, Done]{method: "POST", path: "/reset", code: 202, refusal: 422, summary: "Empty the data of services",
		details: "What needs them is stopped for it. They are started again, migrated and seeded; the answer comes when that has begun."}
)

func (s *Server) handleErrands() {
	handle(s, errandsEndpoint, func(*http.Request, none) ([]insight.Errand, func(), error) {
		out, err := s.keeper.Errands()
		return out, nil, err
	})
	handle(s, runErrandEndpoint, func(r *http.Request, in Arguments) (errand.Run, func(), error) {
		run, err := s.keeper.RunErrand(asked(r), r.PathValue("name"), in.Args)
		return run, nil, err
	})
	handle(s, errandOutputEndpoint, func(r *http.Request, _ none) (keep.ErrandOutput, func(), error) {
		id, err := runNumber(r)
		if err != nil {
			return keep.ErrandOutput{}, nil, err
		}
		from, _ := strconv.ParseInt(r.URL.Query().Get("from"), 10, 64)
		out, err := s.keeper.ErrandOutput(id, from)
		return out, nil, err
	})
	handle(s, cancelErrandEndpoint, func(r *http.Request, _ none) (Done, func(), error) {
		id, err := runNumber(r)
		if err == nil {
			err = s.keeper.CancelErrand(id)
		}
		return Done{}, nil, err
	})
	handle(s, migrationsEndpoint, func(r *http.Request, _ none) (launch.Migrations, func(), error) {
		out, err := s.keeper.Migrations(r.Context(), r.PathValue("name"))
		return out, nil, err
	})
	handle(s, lossEndpoint, func(r *http.Request, n Names) ([]keep.Loss, func(), error) {
		out, err := s.keeper.Loss(r.Context(), n.Services...)
		return out, nil, err
	})
	handle(s, resetEndpoint, func(r *http.Request, n Names) (Done, func(), error) {
		began, err := s.keeper.Reset(asked(r), n.Services...)
		return Done{Began: began}, nil, err
	})
}

func runNumber(r *http.Request) (int64, error) {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		return 0, &BadRequestError{fmt.Errorf("%q is not the number of a run", r.PathValue("id"))}
	}
	return id, nil
}

// Errands lists the errands, each with its latest runs.
func (c *Client) Errands(ctx context.Context) ([]insight.Errand, error) {
	return call(ctx, c, errandsEndpoint, none{})
}

// RunErrand runs an errand in the keeper, and returns when it has begun.
func (c *Client) RunErrand(ctx context.Context, name string, args []string) (errand.Run, error) {
	return call(ctx, c, runErrandEndpoint, Arguments{args}, name)
}

// ErrandOutput returns how a run is, and what it has printed from a place on.
func (c *Client) ErrandOutput(ctx context.Context, id, from int64) (keep.ErrandOutput, error) {
	e := errandOutputEndpoint
	e.path += "?from=" + strconv.FormatInt(from, 10)
	return call(ctx, c, e, none{}, strconv.FormatInt(id, 10))
}

// CancelErrand ends a run of an errand.
func (c *Client) CancelErrand(ctx context.Context, id int64) error {
	_, err := call(ctx, c, cancelErrandEndpoint, none{}, strconv.FormatInt(id, 10))
	return err
}

// Migrations lists the migrations of a database.
func (c *Client) Migrations(ctx context.Context, service string) (launch.Migrations, error) {
	return call(ctx, c, migrationsEndpoint, none{}, service)
}

// Loss tells what emptying the data of services would take away.
func (c *Client) Loss(ctx context.Context, names ...string) ([]keep.Loss, error) {
	return call(ctx, c, lossEndpoint, Names{Services: names})
}

// Reset empties the data of services, and returns when they begin to start again.
func (c *Client) Reset(ctx context.Context, names ...string) (Done, error) {
	return call(ctx, c, resetEndpoint, Names{Services: names})
}

func (h here) Errands(context.Context) ([]insight.Errand, error) {
	return insight.Errands(h.project, func(string) supervise.State { return supervise.Stopped })
}

func (h here) ErrandOutput(_ context.Context, id, from int64) (keep.ErrandOutput, error) {
	return keep.ReadErrand(errand.NewStore(h.project.ErrandDir()), h.project.Mask, id, from)
}

func (h here) Migrations(ctx context.Context, service string) (launch.Migrations, error) {
	return launch.MigrationsOf(ctx, h.project, service, false)
}
