package functions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/traffic"
	emulator "neighbour/internal/emulator/functions"
)

// Source looks at the functions and their latest calls.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	s := &source{Asker: kind.NewAsker(in, address(in), time.Minute)}
	s.Lists = s.records
	return s, nil
}

type source struct {
	store.Lists
	kind.Asker
}

// The collections.
const (
	functions = "functions"
	calls     = "calls"
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
	n := 0
	for _, f := range o.Functions {
		n += f.Calls
	}
	return []store.Collection{
		{Name: functions, Title: functions, Is: "list", Count: int64(len(o.Functions)), Bytes: -1, Note: strings.Join(o.Problems, "; ")},
		{Name: calls, Title: calls, Is: "list", Count: int64(n), About: true, Bytes: -1, Note: "the latest; Traffic has each whole"},
	}, nil
}

func (s *source) records(ctx context.Context, collection string) ([]string, []store.Listed, error) {
	var out []store.Listed
	switch collection {
	case functions:
		o, err := s.overview(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range o.Functions {
			median := "–"
			if f.Calls > 0 {
				median = traffic.Took(f.MedianMS)
			}
			out = append(out, store.Listed{Key: f.Name, Values: []string{f.Name, f.Runs, strconv.Itoa(f.Calls), strconv.Itoa(f.Failed), median, f.Problem, f.File}, Whole: f, Fixed: "a function is changed in its file"})
		}
		return []string{"name", "runs on", "calls", "failed", "median", "problem", "file"}, out, nil
	case calls:
		var all []traffic.Exchange
		if err := s.Ask(ctx, http.MethodGet, traffic.Path+"?n=500", "", &all); err != nil {
			return nil, nil, err
		}
		for _, e := range all {
			status := strconv.Itoa(e.Status)
			if e.Status == 0 {
				status = "none"
			}
			out = append(out, store.Listed{Key: strconv.FormatInt(e.ID, 10), Values: []string{e.Began.Local().Format("15:04:05"), e.Method, traffic.Masked(e.Path), status, traffic.Took(e.TookMS)}, Whole: e, Says: e.Method + " " + traffic.Masked(e.Path), Fixed: "what was called is not changed"})
		}
		return []string{"at", "method", "path", "status", "took"}, out, nil
	}
	return nil, nil, &store.GoneError{What: "a list " + collection}
}

// call is the action by which a function is called.
const call = "call"

// Actions lists what can be done.
func (s *source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	if key != "" {
		if collection != functions {
			return nil, nil
		}
		return []store.Action{{Name: call, Says: "call it", Inputs: []store.Input{
			{Name: "method", Hint: "POST", Value: http.MethodPost}, {Name: "path", Hint: "what follows its name: /7?all=yes"}, {Name: "body", Hint: `{"name": "Ines"}`, Value: "{}"},
		}}}, nil
	}
	wrong, err := misbehave.Action(s.Rules, noRules...)
	return []store.Action{wrong}, err
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	switch a.Action {
	case misbehave.ActionName:
		r, err := misbehave.FromAct(s.Rules, a)
		return store.Plan{Statement: misbehave.Plan(r)}, err
	case call:
		r, err := s.request(ctx, a)
		if err != nil {
			return store.Plan{}, err
		}
		return store.Plan{Statement: r.Method + " " + r.URL.RequestURI()}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

func (s *source) request(ctx context.Context, a store.Act) (*http.Request, error) {
	name, err := store.TextOfKey(a.Key)
	if err != nil {
		return nil, err
	}
	value := func(of string) string {
		if v := a.Values[of]; v != nil {
			return strings.TrimSpace(*v)
		}
		return ""
	}
	method := strings.ToUpper(value("method"))
	if method == "" {
		method = http.MethodPost
	}
	path := value("path")
	if path != "" && path[0] != '/' && path[0] != '?' {
		path = "/" + path
	}
	return NewCall(ctx, s.Base, method, name, path, value("body"))
}

// NewCall returns the request that calls a function of a service.
func NewCall(ctx context.Context, base, method, name, path, body string) (*http.Request, error) {
	if method == http.MethodGet || method == http.MethodHead {
		body = ""
	}
	r, err := http.NewRequestWithContext(ctx, method, base+"/"+name+path, strings.NewReader(body))
	if err != nil {
		return nil, &store.FixedError{Why: fmt.Sprintf("this can't be called: %v", err)}
	}
	if body != "" {
		r.Header.Set("Content-Type", "text/plain; charset=utf-8")
		if json.Valid([]byte(body)) {
			r.Header.Set("Content-Type", "application/json")
		}
	}
	return r, nil
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	switch a.Action {
	case misbehave.ActionName:
		return misbehave.Do(s.Rules, a)
	case call:
		r, err := s.request(ctx, a)
		if err != nil {
			return "", err
		}
		began := time.Now()
		resp, err := s.HTTP.Do(r)
		if err != nil {
			return "", errors.New(probe.Explain(err))
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s after %s: %s", resp.Status, words.Millis(float64(time.Since(began).Microseconds())/1000), bytes.TrimSpace(b)), nil
	}
	return "", store.ErrNoAction
}

// notesTime is how long notes may take.
const notesTime = 150 * time.Millisecond

// Notes tell what can be called, and what can't.
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	ctx, cancel := context.WithTimeout(context.Background(), notesTime)
	defer cancel()
	s := source{Asker: kind.Asker{Base: address(in), HTTP: http.DefaultClient}}
	o, err := s.overview(ctx)
	if err != nil {
		return nil, ""
	}
	out := o.Problems
	var names []string
	for _, f := range o.Functions {
		if f.Problem != "" {
			line, _, _ := strings.Cut(f.Problem, "\n")
			out = append(out, f.Name+": "+line)
		}
		names = append(names, f.Name)
	}
	if len(out) > 0 {
		wrong = out[0]
	}
	switch n := len(names); {
	case n == 0:
		return append(out, "there are no functions yet: write greet.js into the folder"), wrong
	case n > 4:
		names = append(names[:4], fmt.Sprintf("and %d more", n-4))
	}
	return append(out, names...), wrong
}
