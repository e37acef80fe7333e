package stub

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/record/traffic"
	emulator "neighbour/internal/emulator/stub"
)

// Source looks at what a stub was asked, what it answers and what it sends.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	s := &source{Asker: kind.NewAsker(in, address(in), 10*time.Second)}
	s.Lists = s.records
	return s, nil
}

type source struct {
	store.Lists
	kind.Asker
}

// The collections.
const (
	requests = "requests"
	routes   = "routes"
	state    = "state"
	webhooks = "webhooks"
)

func (s *source) overview(ctx context.Context) (o emulator.Overview, err error) {
	return o, s.Ask(ctx, http.MethodGet, emulator.OverviewPath, "", &o)
}

// Collections lists what there is.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	o, err := s.overview(ctx)
	if err != nil {
		return nil, err
	}
	all, err := s.exchanges(ctx)
	if err != nil {
		return nil, err
	}
	out := []store.Collection{
		{Name: requests, Title: requests, Is: "list", Count: int64(len(all)), Bytes: -1, Can: []string{store.Clear}, Note: strings.Join(o.Problems, "; ")},
		{Name: routes, Title: routes, Is: "list", Count: int64(len(o.Routes)), Bytes: -1, Note: o.Says},
		{Name: state, Title: state, Is: "list", Count: int64(len(o.State)), Bytes: -1},
	}
	if len(o.Hooks) > 0 {
		out = append(out, store.Collection{Name: webhooks, Title: webhooks, Is: "list", Count: int64(len(o.Hooks)), Bytes: -1})
	}
	return out, nil
}

func (s *source) exchanges(ctx context.Context) (all []traffic.Exchange, err error) {
	return all, s.Ask(ctx, http.MethodGet, traffic.Path+"?n=1000&filter=stub", "", &all)
}

func (s *source) records(ctx context.Context, collection string) ([]string, []store.Listed, error) {
	var out []store.Listed
	if collection == requests {
		all, err := s.exchanges(ctx)
		for _, e := range all {
			status := strconv.Itoa(e.Status)
			out = append(out, store.Listed{Key: strconv.FormatInt(e.ID, 10), Values: []string{e.Began.Local().Format("15:04:05"), e.Method, traffic.Masked(e.Path), status, traffic.Took(e.TookMS)}, Whole: e, Says: e.Method + " " + traffic.Masked(e.Path), Fixed: "what was asked is not changed; Traffic has it whole"})
		}
		return []string{"at", "method", "path", "status", "took"}, out, err
	}
	o, err := s.overview(ctx)
	if err != nil {
		return nil, nil, err
	}
	switch collection {
	case routes:
		for i, on := range o.Routes {
			out = append(out, store.Listed{Key: strconv.Itoa(i), Values: []string{on, strconv.Itoa(o.Calls[on])}, Fixed: "a route is changed in the declaration"})
		}
		return []string{"on", "calls"}, out, nil
	case state:
		for name, value := range o.State {
			out = append(out, store.Listed{Key: name, Values: []string{name, value}, Fixed: "routes set it"})
		}
		return []string{"name", "value"}, out, nil
	case webhooks:
		var sent struct {
			Sent []emulator.SentHook `json:"sent"`
		}
		if err := s.Ask(ctx, http.MethodGet, "/-/webhooks", "", &sent); err != nil {
			return nil, nil, err
		}
		for _, name := range o.Hooks {
			last := "not sent yet"
			for _, h := range sent.Sent {
				if h.Name == name {
					last = fmt.Sprintf("%s at %s", h.State, h.At.Local().Format("15:04:05"))
					if h.Problem != "" {
						last += ": " + h.Problem
					}
					break
				}
			}
			out = append(out, store.Listed{Key: name, Values: []string{name, last}, Fixed: "a webhook is changed in the declaration"})
		}
		return []string{"name", "latest"}, out, nil
	}
	return nil, nil, &store.GoneError{What: "a list " + collection}
}

// send is the action by which a webhook is sent.
const send = "send"

// Actions lists what can be done.
func (s *source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	if key != "" {
		if collection != webhooks {
			return nil, nil
		}
		return []store.Action{{Name: send, Says: "send it", Inputs: []store.Input{{Name: "data", Hint: `what its template is filled in with: {"answer": {"id": "1"}}`, Value: "{}"}}}}, nil
	}
	wrong, err := misbehave.Action(s.Rules, noRules...)
	return []store.Action{{Name: store.Clear, Says: "forget what it was asked, and begin to count anew"}, wrong}, err
}

// Plan says what an act would do.
func (s *source) Plan(_ context.Context, a store.Act) (store.Plan, error) {
	switch a.Action {
	case misbehave.ActionName:
		r, err := misbehave.FromAct(s.Rules, a)
		return store.Plan{Statement: misbehave.Plan(r)}, err
	case send:
		return store.Plan{Statement: "the webhook is sent"}, nil
	case store.Clear:
		return store.Plan{Statement: "forget the requests, the counts and the state", Loses: "what it was asked"}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	switch a.Action {
	case misbehave.ActionName:
		return misbehave.Do(s.Rules, a)
	case store.Clear:
		return "it is forgotten", s.Ask(ctx, http.MethodPost, emulator.ResetPath, "", nil)
	case send:
		name, err := store.TextOfKey(a.Key)
		if err != nil {
			return "", err
		}
		data := "{}"
		if v := a.Values["data"]; v != nil {
			data = *v
		}
		return "it is sent; Traffic tells how that goes", s.Ask(ctx, http.MethodPost, "/-/webhooks/"+name+"/send", data, nil)
	}
	return "", store.ErrNoAction
}
