package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/kind"
)

// Filling says which file's items are to be added to a collection.
type Filling struct {
	Collection string `json:"collection"`
	// File is its whole path on this machine.
	File string `json:"file"`
	// Dry adds none.
	Dry bool `json:"dry"`
}

// Acted says what was done.
type Acted struct {
	Says string `json:"says"`
}

// placeQuery are the parameters of requests about an item.
var placeQuery = []parameter{{"collection", "the collection", "string"}, {"key", "the item's key; left out, the collection itself is meant", "string"}}

var (
	dataEndpoint  = endpoint[none, keep.Data]{method: "GET", path: "/services/{name}/data", refusal: 422, summary: "What a service holds: its collections"}
	itemsEndpoint = endpoint[store.Query, store.Page]{method: "POST", path: "/services/{name}/items", refusal: 422, summary: "A page of the items of a collection",
		details: "Values are cut, and a page begins after the key of an item. Nothing is changed."}
	structureEndpoint = endpoint[none, store.Page]{method: "GET", path: "/services/{name}/structure", refusal: 422, summary: "How a collection is made: columns, indexes, foreign keys", query: placeQuery[:1]}
	itemEndpoint      = endpoint[none, store.Item]{method: "GET", path: "/services/{name}/item", refusal: 422, summary: "An item whole", query: placeQuery}
	actionsEndpoint   = endpoint[none, []store.Action]{method: "GET", path: "/services/{name}/actions", refusal: 422, summary: "What can be done with a collection or an item", query: placeQuery}
	planEndpoint      = endpoint[store.Act, store.Plan]{method: "POST", path: "/services/{name}/plan", refusal: 422, summary: "What an act would do", details: "Nothing is changed."}
	actEndpoint       = endpoint[store.Act, Acted]{method: "POST", path: "/services/{name}/act", refusal: 422, summary: "Change an item or a collection"}
	fillEndpoint      = endpoint[Filling, store.Filled]{method: "POST", path: "/services/{name}/fill", refusal: 422, summary: "Add the items of a file, of CSV or JSON, to a collection",
		details: "All of them are added or none. What is wrong with them is told with the lines of the file."}
	askEndpoint = endpoint[store.Question, keep.Answer]{method: "POST", path: "/services/{name}/ask", refusal: 422, summary: "Ask a service in its own language",
		details: "Unless it may write, a statement is carried out so that it can't; of one that would, writes is true. When the client goes, the server is told to stop."}
)

// handleLook answers an endpoint with a look into the service that it names.
func handleLook[In, Out any](s *Server, e endpoint[In, Out], do func(ctx context.Context, source store.Source, in In, r *http.Request) (Out, error)) {
	handle(s, e, func(r *http.Request, in In) (out Out, after func(), err error) {
		err = s.keeper.Look(r.Context(), r.PathValue("name"), func(source store.Source) (err error) {
			out, err = do(r.Context(), source, in, r)
			return err
		})
		return out, nil, err
	})
}

func (s *Server) handleData() {
	handleLook(s, dataEndpoint, func(ctx context.Context, source store.Source, _ none, r *http.Request) (keep.Data, error) {
		d, err := keep.DataOf(ctx, r.PathValue("name"), source)
		d.Asked = s.keeper.Asked(r.PathValue("name"))
		return d, err
	})
	handleLook(s, itemsEndpoint, func(ctx context.Context, source store.Source, q store.Query, _ *http.Request) (store.Page, error) {
		return source.Items(ctx, q)
	})
	handleLook(s, itemEndpoint, func(ctx context.Context, source store.Source, _ none, r *http.Request) (store.Item, error) {
		return source.Item(ctx, r.URL.Query().Get("collection"), r.URL.Query().Get("key"))
	})
	handleLook(s, structureEndpoint, func(ctx context.Context, source store.Source, _ none, r *http.Request) (store.Page, error) {
		return keep.DescribeSource(ctx, source, r.URL.Query().Get("collection"))
	})
	handleLook(s, actionsEndpoint, func(ctx context.Context, source store.Source, _ none, r *http.Request) ([]store.Action, error) {
		actor, err := keep.ActorOf(source)
		if err != nil {
			return nil, err
		}
		return actor.Actions(ctx, r.URL.Query().Get("collection"), r.URL.Query().Get("key"))
	})
	handleLook(s, planEndpoint, func(ctx context.Context, source store.Source, a store.Act, _ *http.Request) (store.Plan, error) {
		return store.PlanAct(ctx, source, a)
	})
	handleLook(s, actEndpoint, func(ctx context.Context, source store.Source, a store.Act, _ *http.Request) (Acted, error) {
		says, err := store.DoAct(ctx, source, a)
		return Acted{says}, err
	})
	handleLook(s, fillEndpoint, func(ctx context.Context, source store.Source, f Filling, _ *http.Request) (store.Filled, error) {
		return keep.FillSource(ctx, source, f.Collection, f.File, f.Dry)
	})
	handleLook(s, askEndpoint, func(ctx context.Context, source store.Source, q store.Question, r *http.Request) (keep.Answer, error) {
		s.keeper.NoteAsked(r.PathValue("name"), q.Statement)
		return keep.AskSource(ctx, source, q)
	})
}

// Looks are questions about what services hold, and changes of it.
type Looks interface {
	// Data lists the collections of a service.
	Data(ctx context.Context, service string) (keep.Data, error)
	// Items returns a page of the items of a collection.
	Items(ctx context.Context, service string, q store.Query) (store.Page, error)
	// Item returns an item whole.
	Item(ctx context.Context, service, collection, key string) (store.Item, error)
	// Structure lists the columns, indexes and foreign keys of a collection.
	Structure(ctx context.Context, service, collection string) (store.Page, error)
	// Actions lists what can be done with an item, or a collection for the key "".
	Actions(ctx context.Context, service, collection, key string) ([]store.Action, error)
	// Plan says what an act would do.
	Plan(ctx context.Context, service string, a store.Act) (store.Plan, error)
	// Act carries it out, and says what was done.
	Act(ctx context.Context, service string, a store.Act) (string, error)
	// Fill adds the items of a file to a collection, all of them or none.
	Fill(ctx context.Context, service string, f Filling) (store.Filled, error)
	// AskService asks a service in its own language.
	AskService(ctx context.Context, service string, q store.Question) (keep.Answer, error)
}

// Data lists the collections of a service.
func (c *Client) Data(ctx context.Context, service string) (keep.Data, error) {
	return call(ctx, c, dataEndpoint, none{}, service)
}

// Items returns a page of the items of a collection.
func (c *Client) Items(ctx context.Context, service string, q store.Query) (store.Page, error) {
	return call(ctx, c, itemsEndpoint, q, service)
}

// Item returns an item whole.
func (c *Client) Item(ctx context.Context, service, collection, key string) (store.Item, error) {
	return call(ctx, c, at(itemEndpoint, collection, key), none{}, service)
}

// Structure lists the columns, indexes and foreign keys of a collection.
func (c *Client) Structure(ctx context.Context, service, collection string) (store.Page, error) {
	return call(ctx, c, at(structureEndpoint, collection, ""), none{}, service)
}

// Actions lists what can be done with an item, or a collection for the key "".
func (c *Client) Actions(ctx context.Context, service, collection, key string) ([]store.Action, error) {
	return call(ctx, c, at(actionsEndpoint, collection, key), none{}, service)
}

func at[In, Out any](e endpoint[In, Out], collection, key string) endpoint[In, Out] {
	e.path += "?" + url.Values{"collection": {collection}, "key": {key}}.Encode()
	return e
}

// Plan says what an act would do.
func (c *Client) Plan(ctx context.Context, service string, a store.Act) (store.Plan, error) {
	return call(ctx, c, planEndpoint, a, service)
}

// Act carries it out, and says what was done.
func (c *Client) Act(ctx context.Context, service string, a store.Act) (string, error) {
	done, err := call(ctx, c, actEndpoint, a, service)
	return done.Says, err
}

// AskService asks a service in its own language.
func (c *Client) AskService(ctx context.Context, service string, q store.Question) (keep.Answer, error) {
	return call(ctx, c, askEndpoint, q, service)
}

// Fill adds the items of a file to a collection, all of them or none.
func (c *Client) Fill(ctx context.Context, service string, f Filling) (store.Filled, error) {
	return call(ctx, c, fillEndpoint, f, service)
}

func (h here) Fill(ctx context.Context, service string, f Filling) (store.Filled, error) {
	return lookHere(h, service, func(s store.Source) (store.Filled, error) {
		return keep.FillSource(ctx, s, f.Collection, f.File, f.Dry)
	})
}

// source opens a look into a service that needs no process.
func (h here) source(service string) (store.Source, error) {
	if err := h.project.Check(service); err != nil {
		return nil, err
	}
	if k := h.project.Kind(h.project.Service(service)); !k.Info().NoProcess {
		if _, ok := k.(kind.Holding); ok {
			return nil, &keep.NoDataError{Why: fmt.Sprintf("%s does not run; neighbour start %s starts it", service, service)}
		}
	}
	return keep.OpenSource(h.project, service)
}

// lookHere answers with a look from this process.
func lookHere[Out any](h here, service string, do func(store.Source) (Out, error)) (out Out, err error) {
	source, err := h.source(service)
	if err != nil {
		return out, err
	}
	defer source.Close()
	return do(source)
}

func (h here) Data(ctx context.Context, service string) (keep.Data, error) {
	return lookHere(h, service, func(s store.Source) (keep.Data, error) { return keep.DataOf(ctx, service, s) })
}

func (h here) Items(ctx context.Context, service string, q store.Query) (store.Page, error) {
	return lookHere(h, service, func(s store.Source) (store.Page, error) { return s.Items(ctx, q) })
}

func (h here) Item(ctx context.Context, service, collection, key string) (store.Item, error) {
	return lookHere(h, service, func(s store.Source) (store.Item, error) { return s.Item(ctx, collection, key) })
}

func (h here) Structure(ctx context.Context, service, collection string) (store.Page, error) {
	return lookHere(h, service, func(s store.Source) (store.Page, error) { return keep.DescribeSource(ctx, s, collection) })
}

func (h here) Actions(ctx context.Context, service, collection, key string) ([]store.Action, error) {
	return lookHere(h, service, func(s store.Source) ([]store.Action, error) {
		a, err := keep.ActorOf(s)
		if err != nil {
			return nil, err
		}
		return a.Actions(ctx, collection, key)
	})
}

func (h here) Plan(ctx context.Context, service string, act store.Act) (store.Plan, error) {
	return lookHere(h, service, func(s store.Source) (store.Plan, error) { return store.PlanAct(ctx, s, act) })
}

func (h here) Act(ctx context.Context, service string, act store.Act) (string, error) {
	return lookHere(h, service, func(s store.Source) (string, error) { return store.DoAct(ctx, s, act) })
}

func (h here) AskService(ctx context.Context, service string, q store.Question) (keep.Answer, error) {
	return lookHere(h, service, func(s store.Source) (keep.Answer, error) {
		return keep.AskSource(ctx, s, q)
	})
}
