// Package trigger does what is declared to be done when something happens: it takes events from
// their sources into the outbox, and sends them from there to their targets. It knows no
// project: what it needs of one is behind Host.
package trigger

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// Host is what triggers need of the project that they are of.
type Host interface {
	// Ready reports whether a service can be used.
	Ready(service string) bool
	// Follow tells what happens in a service, like kind.Emitter.
	Follow(ctx context.Context, service string, w kind.Watch, cursor string, emit kind.Emit) error
	// Take sends a message to a service, by its kind.Taker.
	Take(ctx context.Context, service, to string, e outbox.Event) error
	// Expand resolves the references of a text.
	Expand(text string) (string, error)
	// Forbids says why a trigger may not call its address, "" if it may.
	Forbids(t *declare.Trigger) string
	// Run runs an errand to its end, with variables beside those that it has.
	Run(ctx context.Context, errand string, variables map[string]string, by string) (said string, err error)
	// States tells the states that services come to, until the context ends.
	// States tells the states that services come to, until the context ends. It calls began once
	// none is missed any more.
	States(ctx context.Context, began func(), told func(service, state string, at time.Time))
	// Note writes what there is to know of a trigger to the log.
	Note(trigger string, failed bool, text string)
}

// Runner runs the triggers of a project. Its methods may be called at the same time.
type Runner struct {
	Project string // its name
	Host    Host
	Box     *outbox.Box
	Clock   *Clock
	// Changed is called when there is something new to be seen; nil: nobody is told.
	Changed func()

	triggers []*declare.Trigger
	http     *http.Client

	mu     sync.Mutex
	states map[string]*state
}

// state is what is known of a trigger in memory.
type state struct {
	// problem says why its source can't be followed now; "": it can.
	problem string
	watched bool              // nothing that happens in its source is missed
	flying  map[string][]span // of each key, when it was sent
	chain   map[string]int    // of each key, how many events in a row it caused itself
}

// span is when an event was being sent; end is zero as long as it is.
type span struct{ begin, end time.Time }

// New returns a runner of triggers.
func New(project string, all []*declare.Trigger, h Host, b *outbox.Box, c *Clock) *Runner {
	r := &Runner{Project: project, Host: h, Box: b, Clock: c, triggers: all, states: map[string]*state{}, http: &http.Client{
		Transport:     &http.Transport{MaxIdleConnsPerHost: 64, IdleConnTimeout: 30 * time.Second},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	for _, t := range all {
		r.states[t.Name] = &state{flying: map[string][]span{}, chain: map[string]int{}}
	}
	return r
}

// Run runs the triggers until the context ends.
func (r *Runner) Run(ctx context.Context) {
	defer r.http.CloseIdleConnections()
	var all sync.WaitGroup
	watched := map[string][]*declare.Trigger{} // by service and state
	for _, t := range r.triggers {
		all.Go(func() { r.send(ctx, t) })
		switch at, timed := t.On.Schedule(); {
		case timed:
			all.Go(func() { r.tick(ctx, t, at) })
		case t.On.State.Value != "":
			key := t.On.ServiceName() + " " + t.On.State.Value
			watched[key] = append(watched[key], t)
		default:
			all.Go(func() { r.follow(ctx, t) })
		}
	}
	if len(watched) > 0 {
		all.Go(func() {
			began := func() {
				for _, all := range watched {
					for _, t := range all {
						r.watch(t, true)
					}
				}
			}
			r.Host.States(ctx, began, func(service, is string, at time.Time) {
				for _, t := range watched[service+" "+is] {
					data, _ := json.Marshal(map[string]string{"service": service, "state": is})
					r.add(ctx, t, []outbox.Event{{Key: service, Type: is, Subject: service, At: at, Data: data}}, "")
				}
			})
		})
	}
	all.Wait()
}

// add keeps events, which is noted if it can't be done.
func (r *Runner) add(ctx context.Context, t *declare.Trigger, events []outbox.Event, cursor string) error {
	if stop := r.chained(t, events); stop != "" {
		r.Host.Note(t.Name, true, stop)
		if err := r.Box.Pause(t.Name, stop); err != nil {
			return err
		}
	}
	err := r.Box.Add(ctx, t.Name, events, cursor)
	if err != nil && ctx.Err() == nil {
		r.Host.Note(t.Name, true, "what has happened can't be kept: "+err.Error())
	}
	if len(events) > 0 && r.Changed != nil {
		r.Changed()
	}
	return err
}

// defaultChain is how many events in a row a trigger may have caused itself.
const defaultChain = 100

// chained counts the events that came while the one before of the same key, and no other, was
// being sent: such a trigger most probably causes them itself. If there are too many in a row,
// it says so.
func (r *Runner) chained(t *declare.Trigger, events []outbox.Event) (stop string) {
	if t.On.Kind == "" {
		return ""
	}
	most := t.Chain
	if most == 0 {
		most = defaultChain
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	st := r.states[t.Name]
	now := time.Now()
	for _, e := range events {
		at := e.At
		if at.IsZero() {
			at = now
		}
		caused := false
		spans := st.flying[e.Key]
		if len(spans) > 0 {
			last := spans[len(spans)-1]
			// Times of other clocks are in milliseconds.
			caused = !at.Before(last.begin.Truncate(time.Millisecond)) && (last.end.IsZero() || !at.After(last.end.Add(time.Millisecond)))
		}
		if !caused {
			delete(st.chain, e.Key)
			continue
		}
		st.chain[e.Key]++
		if n := st.chain[e.Key]; n >= most {
			delete(st.chain, e.Key)
			stop = fmt.Sprintf("it was stopped: %d times in a row its own doing made it happen again (%s); after that is mended, have it go on", n, e.Subject)
		}
		// The next is caused by this one, and by none before.
		delete(st.flying, e.Key)
	}
	return stop
}

// follow follows a trigger's source whenever its service can be used.
func (r *Runner) follow(ctx context.Context, t *declare.Trigger) {
	service := t.On.ServiceName()
	w := kind.Watch{Trigger: t.Name, What: t.On.What, Key: t.On.Key, Every: t.On.Every}
	for _, c := range t.On.Change {
		w.Changes = append(w.Changes, c.Value)
	}
	for ctx.Err() == nil {
		if !r.Host.Ready(service) {
			r.tell(t, "")
			if !kind.Pause(ctx, readyEvery) {
				return
			}
			continue
		}
		err := r.followOnce(ctx, t, service, w)
		if ctx.Err() != nil {
			return
		}
		switch {
		case errors.Is(err, kind.ErrLost):
			r.Host.Note(t.Name, true, fmt.Sprintf("%v; it goes on with what happens from now on", err))
			if err := r.Box.Add(ctx, t.Name, nil, ""); err != nil {
				return
			}
		case err != nil && r.Host.Ready(service):
			r.tell(t, err.Error())
		}
		if !kind.Pause(ctx, followAgain) {
			return
		}
	}
}

const (
	// readyEvery is how often it is looked whether a service can be used.
	readyEvery = 50 * time.Millisecond
	// followAgain is how long it takes until a source is followed again that can't be.
	followAgain = 500 * time.Millisecond
)

// errNotReady ends a watch whose service can't be used any more. Nothing is wrong with the source.
var errNotReady = errors.New("the service is not ready")

func (r *Runner) followOnce(ctx context.Context, t *declare.Trigger, service string, w kind.Watch) error {
	cursor, err := r.Box.Cursor(t.Name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer r.watch(t, false)
	go func() { // a connection to what is stopped may hold
		for kind.Pause(ctx, 10*readyEvery) {
			if !r.Host.Ready(service) {
				cancel(errNotReady)
			}
		}
	}()
	began := time.AfterFunc(2*followAgain, func() { r.tell(t, "") })
	defer began.Stop()
	err = r.Host.Follow(ctx, service, w, cursor, func(events []outbox.Event, cursor string) error {
		err := r.add(ctx, t, events, cursor)
		if err == nil {
			r.watch(t, true)
		}
		return err
	})
	if context.Cause(ctx) == errNotReady {
		return nil
	}
	return err
}

// tell notes why a source can't be followed, "" if it can.
func (r *Runner) tell(t *declare.Trigger, problem string) {
	r.mu.Lock()
	st := r.states[t.Name]
	before := st.problem
	st.problem = problem
	r.mu.Unlock()
	if problem != "" && problem != before {
		r.Host.Note(t.Name, true, t.On.String()+" can't be watched: "+problem)
	}
	if problem != before && r.Changed != nil {
		r.Changed()
	}
}

// watch notes whether a trigger's source is watched.
func (r *Runner) watch(t *declare.Trigger, watched bool) {
	r.mu.Lock()
	st := r.states[t.Name]
	before := st.watched
	st.watched = watched
	r.mu.Unlock()
	if watched != before && r.Changed != nil {
		r.Changed()
	}
}

// Watched reports whether nothing that happens in a trigger's source is missed now.
func (r *Runner) Watched(name string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	st := r.states[name]
	return st != nil && st.watched
}

// Problem says why a trigger's source can't be followed now; "": it can.
func (r *Runner) Problem(name string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if st := r.states[name]; st != nil {
		return st.problem
	}
	return ""
}

// send sends a trigger's events.
func (r *Runner) send(ctx context.Context, t *declare.Trigger) {
	for {
		err := r.sendAll(ctx, t)
		if ctx.Err() != nil {
			return
		}
		r.Host.Note(t.Name, true, fmt.Sprintf("nothing is sent: %v", err))
		if !kind.Pause(ctx, sendAgain) {
			return
		}
	}
}

// sendAgain is how long it takes until events are sent again after what becomes of them could
// not be written down, such as for a full disk.
const sendAgain = 5 * time.Second

func (r *Runner) sendAll(ctx context.Context, t *declare.Trigger) error {
	return r.Box.Run(ctx, t.Name, outbox.Config{
		AtOnce: t.AtOnce, Tries: t.Tries, Wait: t.Wait,
		Ready: func() bool {
			// An errand starts what it needs.
			return t.Errand.Value != "" || !slices.ContainsFunc(r.targets(t), func(s string) bool { return !r.Host.Ready(s) })
		},
		Send: func(ctx context.Context, d outbox.Delivery) outbox.Outcome {
			done := r.flies(t, d.Key)
			defer done()
			return r.once(ctx, t, d)
		},
		Note: func(d outbox.Delivery) {
			if d.State == outbox.Aside {
				r.Host.Note(t.Name, true, fmt.Sprintf("%s · %s is put aside after %d tries: %s", d.Subject, d.Type, d.Tries, d.Problem))
			}
			if r.Changed != nil {
				r.Changed()
			}
		},
	})
}

// flies notes when an event of a key is being sent.
func (r *Runner) flies(t *declare.Trigger, key string) (done func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	st := r.states[t.Name]
	const most = 10_000
	if len(st.flying) > most {
		clear(st.flying)
	}
	begin := time.Now()
	st.flying[key] = []span{{begin: begin}}
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if s := st.flying[key]; len(s) > 0 && s[0].begin.Equal(begin) {
			s[0].end = time.Now()
		}
	}
}

// targets are the services that must be ready for a trigger's events to be sent.
func (r *Runner) targets(t *declare.Trigger) []string {
	if t.Send.Kind != "" {
		return []string{t.Send.ServiceName()}
	}
	return t.Needs
}

// defaultTime is how long a call may take.
const defaultTime = 30 * time.Second

// once sends an event once.
func (r *Runner) once(ctx context.Context, t *declare.Trigger, d outbox.Delivery) outbox.Outcome {
	switch {
	case t.Errand.Value != "":
		said, err := r.Host.Run(ctx, t.Errand.Value, map[string]string{
			"EVENT_ID": eventID(t, d), "EVENT_TYPE": d.Type, "EVENT_SUBJECT": d.Subject, "EVENT_DATA": string(d.Data), "EVENT_TRY": strconv.Itoa(d.Tries),
		}, "trigger "+t.Name)
		if err != nil {
			return outbox.Outcome{Problem: err.Error(), Answer: []byte(said)}
		}
		return outbox.Outcome{Answer: []byte(said)}
	case t.Send.Kind != "":
		limit := t.Time
		if limit == 0 {
			limit = defaultTime
		}
		ctx, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		if err := r.Host.Take(ctx, t.Send.ServiceName(), t.Send.To, d.Event); err != nil {
			return outbox.Outcome{Problem: err.Error()}
		}
		return outbox.Outcome{}
	}
	return r.call(ctx, t, d)
}

// eventID tells an event from all others of the project.
func eventID(t *declare.Trigger, d outbox.Delivery) string {
	if d.Source != "" && d.By == "" {
		return t.Name + "/" + d.Source
	}
	return t.Name + "/" + strconv.FormatInt(d.ID, 10)
}

// Request returns the call of an event: a CloudEvent 1.0 in binary mode (HTTP protocol binding
// for CloudEvents 1.0.2, section 3.1).
func (r *Runner) Request(ctx context.Context, t *declare.Trigger, d outbox.Delivery) (*http.Request, error) {
	address, err := r.Host.Expand(t.Call.Value)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(d.Data))
	if err != nil {
		return nil, err
	}
	h := req.Header
	h.Set("Content-Type", "application/json")
	h.Set("User-Agent", "neighbour")
	source := "/" + r.Project
	if s := t.On.ServiceName(); s != "" {
		source += "/" + s
	}
	if t.On.What != "" {
		source += "/" + t.On.What
	}
	for name, value := range map[string]string{"ce-specversion": "1.0", "ce-id": eventID(t, d), "ce-source": source, "ce-type": d.Type, "ce-subject": d.Subject, "ce-time": d.At.UTC().Format(time.RFC3339Nano)} {
		h.Set(name, percent(value))
	}
	h.Set("X-Request-Id", traceOf(d))
	for name, text := range t.Headers {
		value, err := r.Host.Expand(text.Value)
		if err != nil {
			return nil, err
		}
		h.Set(name, value)
	}
	return req, nil
}

// traceOf is what the requests that an event leads to have in common with it.
func traceOf(d outbox.Delivery) string { return "event-" + strconv.FormatInt(d.ID, 10) }

// percent encodes a value for a header (the same binding, section 3.1.3.2).
func percent(text string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		if c < '!' || c > '~' || c == '"' || c == '%' {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func (r *Runner) call(ctx context.Context, t *declare.Trigger, d outbox.Delivery) (out outbox.Outcome) {
	limit := t.Time
	if limit == 0 {
		limit = defaultTime
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if why := r.Host.Forbids(t); why != "" {
		return outbox.Outcome{Problem: why, Never: true}
	}
	req, err := r.Request(ctx, t, d)
	if err != nil {
		return outbox.Outcome{Problem: err.Error()}
	}
	resp, err := r.http.Do(req)
	if err != nil {
		return outbox.Outcome{Problem: explain(err, limit)}
	}
	defer resp.Body.Close()
	const most = 64 << 10
	out.Status = resp.StatusCode
	out.Answer, err = io.ReadAll(io.LimitReader(resp.Body, most))
	if err == nil {
		_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
	}
	switch {
	case err != nil:
		out.Problem = "the answer broke off: " + explain(err, limit)
	case resp.StatusCode >= 300:
		out.Problem = "it answered " + resp.Status
		if seconds, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && seconds > 0 {
			out.Again = min(time.Duration(seconds)*time.Second, time.Hour)
		}
	}
	return out
}
