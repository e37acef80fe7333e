package keep

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/keeper/trigger"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
	"neighbour/internal/core/record/traffic"
)

// recording is a service that remembers what passed.
type recording struct{ service, address string }

// recordings are the services that remember what passed and can be asked.
func (k *Keeper) recordings() []recording {
	var out []recording
	for _, s := range k.decl.Services {
		is, ok := k.project.Kind(s).(kind.Recorder)
		if st := k.services[s.Name].Status(); !ok || st.State != supervise.Ready && st.State != supervise.Ailing {
			continue
		}
		if in, err := k.project.Instance(s); err == nil {
			out = append(out, recording{s.Name, is.Traffic(in)})
		}
	}
	return out
}

// recordingTime is how long a service may take to tell what passed.
const recordingTime = 2 * time.Second

var recordings = &http.Client{Timeout: recordingTime, Transport: &http.Transport{MaxIdleConnsPerHost: 2, IdleConnTimeout: 10 * time.Second}}

// ask asks a service for what it remembers.
func (r recording) ask(ctx context.Context, method, path string, to any) error {
	asker := kind.Asker{Base: r.address, HTTP: recordings}
	return asker.Ask(ctx, method, traffic.Path+path, "", to)
}

// Passed lists what passed between services beside the gate: calls, requests to stubs, webhooks
// and events, the newest first, those that a filter lets through, n at most, those with a lower
// number than before if that isn't 0.
func (k *Keeper) Passed(ctx context.Context, filter string, before int64, n int) ([]traffic.Exchange, error) {
	f, err := traffic.ParseFilter(filter)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var out []traffic.Exchange
	var all sync.WaitGroup
	for _, r := range k.recordings() {
		all.Go(func() {
			var some []traffic.Exchange
			q := url.Values{"filter": {filter}, "before": {strconv.FormatInt(before, 10)}, "n": {strconv.Itoa(n)}}
			if r.ask(ctx, http.MethodGet, "?"+q.Encode(), &some) != nil {
				return // it has ended, which is told elsewhere
			}
			mu.Lock()
			defer mu.Unlock()
			for i := range some {
				some[i].Service, some[i].Project = r.service, k.decl.Dir
			}
			out = append(out, some...)
		})
	}
	events, err := k.events(f, before, n)
	all.Wait()
	out = append(out, events...)
	slices.SortFunc(out, func(a, b traffic.Exchange) int { return cmp.Compare(b.ID, a.ID) })
	return out[:min(n, len(out))], err
}

func (k *Keeper) runner() *trigger.Runner {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.trigger
}

// events lists the events of triggers.
func (k *Keeper) events(f traffic.Filter, before int64, n int) ([]traffic.Exchange, error) {
	r := k.runner()
	if r == nil {
		return nil, nil
	}
	all, err := r.Box.List("", true, before, n)
	if err != nil {
		return nil, err
	}
	var out []traffic.Exchange
	for _, d := range all {
		if e := k.exchangeOf(d); f.Lets(&e) {
			out = append(out, e)
		}
	}
	return out, nil
}

// mostAside is how many events that were put aside are told.
const mostAside = 200

// PutAside lists the events and webhooks that were put aside, the newest first, those that a filter lets
// through.
func (k *Keeper) PutAside(ctx context.Context, filter string) ([]traffic.Exchange, error) {
	f, err := traffic.ParseFilter(filter)
	if err != nil {
		return nil, err
	}
	out := k.asideWebhooks(ctx, filter)
	r := k.runner()
	if r == nil {
		return out, nil
	}
	all, err := r.Box.List("", false, 0, mostAside)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		if e := k.exchangeOf(d); f.Lets(&e) {
			out = append(out, e)
		}
	}
	return out, nil
}

// asideWebhooks lists the webhooks of stubs that were put aside.
func (k *Keeper) asideWebhooks(ctx context.Context, filter string) []traffic.Exchange {
	var out []traffic.Exchange
	for _, r := range k.recordings() {
		var some []traffic.Exchange
		q := url.Values{"filter": {strings.TrimSpace(filter + " webhook " + traffic.Aside)}, "n": {strconv.Itoa(mostAside)}}
		if r.ask(ctx, http.MethodGet, "?"+q.Encode(), &some) != nil {
			continue
		}
		for _, e := range some {
			if e.What == traffic.Webhook && e.State == traffic.Aside {
				e.Service, e.Project = r.service, k.decl.Dir
				out = append(out, e)
			}
		}
	}
	return out
}

// atWebhook does something with a webhook of a stub: "retry" or "drop".
func (k *Keeper) atWebhook(ctx context.Context, id int64, what string) (int64, error) {
	for _, r := range k.recordings() {
		var n struct {
			ID int64 `json:"id"`
		}
		if r.ask(ctx, http.MethodPost, "/"+strconv.FormatInt(id, 10)+"/"+what, &n) == nil {
			return n.ID, nil
		}
	}
	return 0, ErrNoExchange
}

// Passes reports whether something may pass beside the gate.
func (k *Keeper) Passes() bool {
	if len(k.decl.Triggers) > 0 {
		return true
	}
	return slices.ContainsFunc(k.decl.Services, func(s *declare.Service) bool {
		_, ok := k.project.Kind(s).(kind.Recorder)
		return ok
	})
}

// exchangeOf returns an event as an exchange.
func (k *Keeper) exchangeOf(d outbox.Delivery) traffic.Exchange {
	e := traffic.Exchange{ID: d.ID, Project: k.decl.Dir, What: traffic.Event, Method: http.MethodPost, Status: d.Status, State: d.State.String(), Tries: d.Tries, Problem: d.Problem,
		Began: time.UnixMicro(d.ID), TookMS: float64(d.Took.Microseconds()) / 1000, Sent: d.DataSize, Received: d.AnswerSize, Open: d.State == outbox.Waiting,
		Event: cmp.Or(d.Subject, "event") + " · " + d.Type + " → " + d.Sender, Trace: "event-" + strconv.FormatInt(d.ID, 10), Of: d.By}
	if !d.Began.IsZero() {
		e.Began = d.Began
	}
	if d.By != "" {
		e.Of = "by " + d.By
	}
	t := k.decl.Trigger(d.Sender)
	switch {
	case t == nil:
	case t.Errand.Value != "":
		e.Service = "errand " + t.Errand.Value
	case t.Send.Kind != "":
		e.Service = t.Send.ServiceName()
	default:
		if len(t.Needs) > 0 {
			e.Service = t.Needs[0]
		}
		if address, err := k.project.Wiring().Expand(t.Call.Value); err == nil {
			if u, err := url.Parse(address); err == nil {
				e.Scheme, e.Host, e.Path, e.Proto = u.Scheme, u.Host, u.RequestURI(), "HTTP/1.1"
			}
		}
	}
	return e
}

// ErrNoExchange says that an exchange isn't remembered.
var ErrNoExchange = errors.New("this exchange isn't remembered any more")

// Exchange returns what passed beside the gate, whole. Its error is ErrNoExchange if it isn't
// there.
func (k *Keeper) Exchange(ctx context.Context, id int64) (*traffic.Full, error) {
	if r := k.runner(); r != nil {
		if d, err := r.Box.Get(id); err == nil {
			return k.fullOf(ctx, r, d), nil
		}
	}
	for _, r := range k.recordings() {
		var f traffic.Full
		if r.ask(ctx, http.MethodGet, "/"+strconv.FormatInt(id, 10), &f) == nil {
			f.Service, f.Project = r.service, k.decl.Dir
			return &f, nil
		}
	}
	return nil, ErrNoExchange
}

// fullOf returns an event whole, with the request that it becomes.
func (k *Keeper) fullOf(ctx context.Context, r *trigger.Runner, d outbox.Delivery) *traffic.Full {
	f := &traffic.Full{Exchange: k.exchangeOf(d), RequestHeader: http.Header{"Content-Type": {"application/json"}}, Header: http.Header{}, Request: traffic.Body{Data: d.Data}, Response: traffic.Body{Data: d.Answer}}
	if t := k.decl.Trigger(d.Sender); t != nil && t.Call.Value != "" {
		if req, err := r.Request(ctx, t, d); err == nil {
			f.RequestHeader = req.Header
		}
	}
	f.Header.Set("Content-Type", "text/plain; charset=utf-8")
	if json.Valid(d.Answer) && len(d.Answer) > 0 {
		f.Header.Set("Content-Type", "application/json")
	}
	return f
}

// Again makes an exchange again, as it is changed, and returns the number of what came of it.
func (k *Keeper) Again(ctx context.Context, f *traffic.Full, change traffic.Repeat) (int64, error) {
	if f.What == traffic.Webhook {
		return k.atWebhook(ctx, f.ID, "retry")
	}
	if f.What == traffic.Event {
		if change.Body != nil {
			body := []byte(*change.Body)
			if !json.Valid(body) {
				return 0, errors.New("the data of an event is JSON, and this is none")
			}
			r, err := k.triggering()
			if err != nil {
				return 0, err
			}
			d, err := r.Box.Get(f.ID)
			if err != nil {
				return 0, err
			}
			d.Data = body
			return r.Box.Fire(ctx, d.Sender, asker(ctx), d.Event)
		}
		return k.RetryEvent(ctx, f.ID)
	}
	req, err := f.NewRequest(change)
	if err != nil {
		return 0, err
	}
	req = req.WithContext(ctx)
	req.RequestURI = ""
	if req.URL.Host == "" {
		req.URL.Scheme, req.URL.Host = "http", f.Host
	}
	for _, r := range k.recordings() { // by its own address, whatever name it was called by
		if r.service == f.Service {
			if u, err := url.Parse(r.address); err == nil {
				req.URL.Scheme, req.URL.Host = u.Scheme, u.Host
			}
		}
	}
	req.Header.Set(traffic.RepeatHeader, "the repeat of "+strconv.FormatInt(f.ID, 10))
	resp, err := recordings.Transport.RoundTrip(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(io.Discard, resp.Body); err != nil {
		return 0, err
	}
	return strconv.ParseInt(resp.Header.Get(traffic.ExchangeHeader), 10, 64)
}

// ClearPassed has what passed beside the gate forgotten, other than events.
func (k *Keeper) ClearPassed(ctx context.Context) error {
	var errs []error
	for _, r := range k.recordings() {
		errs = append(errs, r.ask(ctx, http.MethodDelete, "", nil))
	}
	return errors.Join(errs...)
}
