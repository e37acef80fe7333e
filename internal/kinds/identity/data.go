package identity

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	emulator "neighbour/internal/emulator/identity"
)

// Source looks at who can sign in, who did, and the keys.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	s := &source{c: &emulator.API{Base: address(in), HTTP: &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxConnsPerHost: 2}}}, rules: kind.MisbehaveFile(in)}
	s.Lists = s.records
	return s, nil
}

type source struct {
	store.Lists
	c     *emulator.API
	rules string
}

// The collections.
const (
	people  = "people"
	signIns = "sign-ins"
	keys    = "keys"
)

func (s *source) Close() error {
	s.c.HTTP.CloseIdleConnections()
	return nil
}

func (s *source) look(ctx context.Context) (emulator.Overview, error) {
	o, err := s.c.Overview(ctx)
	var refused *emulator.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return o, err
	case errors.As(err, &refused):
		return o, &store.AnswerError{Message: refused.Text}
	}
	return o, errors.New(probe.Explain(err))
}

// Collections lists what there is.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	o, err := s.look(ctx)
	if err != nil {
		return nil, err
	}
	return []store.Collection{
		{Name: people, Title: people, Is: "list", Count: int64(len(o.People)), Bytes: -1},
		{Name: signIns, Title: signIns, Is: "list", Count: int64(len(o.Grants)), Bytes: -1, Can: []string{store.Delete}},
		{Name: keys, Title: keys, Is: "list", Count: int64(len(o.Keys)), Bytes: -1},
	}, nil
}

func at(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func yes(is bool, text string) string {
	if is {
		return text
	}
	return ""
}

// records returns a collection's items and the names of their columns.
func (s *source) records(ctx context.Context, collection string) (columns []string, out []store.Listed, err error) {
	o, err := s.look(ctx)
	if err != nil {
		return nil, nil, err
	}
	switch collection {
	case people:
		for _, p := range o.People {
			state := []string{yes(p.Password, "password"), yes(p.SignedUp, "signed up"), yes(p.SignedUp && !p.Verified, "not confirmed")}
			state = slices.DeleteFunc(state, func(t string) bool { return t == "" })
			r := store.Listed{Key: p.Subject, Values: []string{p.Name, p.Email, strings.Join(p.Roles, ", "), strings.Join(state, ", "), p.Subject}, Whole: p}
			if !p.SignedUp {
				r.Fixed = "who is declared is changed in the declaration"
			}
			out = append(out, r)
		}
		return []string{"name", "email", "roles", "how", "sub"}, out, nil
	case signIns:
		for _, g := range o.Grants {
			state := "holds"
			switch {
			case g.Revoked:
				state = "revoked"
			case time.Now().After(g.Until):
				state = "over"
			}
			who := g.Person
			if who == "" {
				who = "by itself"
			}
			out = append(out, store.Listed{Key: g.ID, Values: []string{at(g.Began), who, g.Client, g.Scope, state, yes(g.Refresh, "can go on")}, Whole: g, Says: who + " in " + g.Client})
		}
		return []string{"began", "who", "client", "scope", "state", "refresh"}, out, nil
	case keys:
		for _, k := range o.Keys {
			out = append(out, store.Listed{Key: k.ID, Values: []string{k.ID, at(k.Made), map[bool]string{true: "signs", false: "known still"}[k.Signs]}, Whole: k, Fixed: "keys are replaced as a whole: have another key sign"})
		}
		return []string{"kid", "made", "state"}, out, nil
	}
	return nil, nil, &store.GoneError{What: "a list " + collection}
}

// rotate is the action by which another key signs.
const rotate = "rotate"

// Actions lists what can be done.
func (s *source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	if key != "" {
		item, err := s.Item(ctx, collection, key)
		switch {
		case err != nil || item.Fixed != "":
			return nil, err
		case collection == signIns:
			return []store.Action{{Name: store.Delete, Says: "revoke it"}}, nil
		}
		return []store.Action{{Name: store.Delete, Says: "remove the account"}}, nil
	}
	wrong, err := misbehave.Action(s.rules, noRules...)
	return []store.Action{{Name: rotate, Says: "have another key sign"}, wrong}, err
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	switch a.Action {
	case misbehave.ActionName:
		r, err := misbehave.FromAct(s.rules, a)
		return store.Plan{Statement: misbehave.Plan(r)}, err
	case rotate:
		return store.Plan{Statement: "a new key signs; tokens that the ones before it signed stay good for as long as these are known"}, nil
	case store.Delete:
		item, err := s.Item(ctx, a.Collection, a.Key)
		if err != nil {
			return store.Plan{}, err
		}
		if item.Fixed != "" {
			return store.Plan{}, &store.FixedError{Why: item.Fixed}
		}
		if a.Collection == signIns {
			return store.Plan{Statement: "all tokens of the sign-in are good no more"}, nil
		}
		return store.Plan{Statement: "remove the account", Loses: "the account of " + item.Says}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if _, err := s.Plan(ctx, a); err != nil {
		return "", err
	}
	switch a.Action {
	case misbehave.ActionName:
		return misbehave.Do(s.rules, a)
	case rotate:
		id, err := s.c.Rotate(ctx)
		return "the key " + id + " signs from now on", err
	}
	key, err := store.TextOfKey(a.Key)
	if err != nil {
		return "", err
	}
	if a.Collection == signIns {
		return "it is revoked", s.c.Revoke(ctx, key)
	}
	return "the account is removed", s.c.Remove(ctx, key)
}

// Notes tell who can sign in.
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	s := in.Service.Settings.(*Settings)
	var out []string
	for i, p := range s.People {
		if i == 4 {
			out = append(out, "and more")
			break
		}
		out = append(out, p.Name)
	}
	if s.SignUp {
		out = append(out, "and whoever makes an account")
	}
	if len(out) == 0 {
		return []string{"nobody can sign in: no people are declared"}, ""
	}
	return out, ""
}
