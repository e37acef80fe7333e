// Package traffic remembers what passed between services: the requests that came through the
// gate, calls of functions, requests to stubs, and what triggers have sent. It keeps the newest
// of them, in bounded space, with as much of their bodies as is worth looking at.
package traffic

import (
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// The most that is remembered.
const (
	mostExchanges = 3000
	mostBytes     = 48 << 20
	// BodyLimit is how much of a body is kept, in bytes; the rest is counted.
	BodyLimit = 128 << 10
)

// Exchange is a request and what became of it, without headers and bodies.
type Exchange struct {
	// ID is a number by which exchanges can be put in order, wherever they were remembered:
	// when they began, in microseconds, or one that follows.
	ID int64 `json:"id"`
	// What it is, if it is not a request that passed the gate.
	What    What      `json:"what,omitempty"`
	Project string    `json:"project"`
	Began   time.Time `json:"began"`
	Method  string    `json:"method"`
	Scheme  string    `json:"scheme"`
	Proto   string    `json:"proto"`
	Host    string    `json:"host"`
	// Path is with the query, as it was asked for.
	Path    string `json:"path"`
	Service string `json:"service,omitempty"`
	// Status is that of the answer; 0 if there was none.
	Status int `json:"status,omitempty"`
	// TookMS is how long it took until all of the answer was passed on, so far if Open.
	TookMS float64 `json:"took_ms"`
	Open   bool    `json:"open,omitempty"`
	// Sent and Received are the sizes of the bodies of the request and of the answer; of a
	// connection that was upgraded, of all that went either way.
	Sent     int64 `json:"sent"`
	Received int64 `json:"received"`
	// Upgrade is what the connection became, such as "websocket".
	Upgrade string `json:"upgrade,omitempty"`
	// Problem says what went wrong on the way; what the service answered is none.
	Problem string `json:"problem,omitempty"`
	// Waiting says that the gate answered, since the service was not ready.
	Waiting bool `json:"waiting,omitempty"`
	// UsualMS is the median of the requests of its route before it, if it was much slower.
	UsualMS float64 `json:"usual_ms,omitempty"`
	// Trace is what it has in common with the requests that it led to: the trace of a
	// traceparent header (W3C Trace Context, section 3.2), or its X-Request-Id.
	Trace string `json:"trace,omitempty"`
	// Event is what a trigger's delivery or a webhook is about: "loans · insert".
	Event string `json:"event,omitempty"`
	// State says how far an event or a webhook is: waiting, done, aside or dropped. One that was
	// put aside was given up, and waits for somebody's decision.
	State string `json:"state,omitempty"`
	// Tries is how often it was sent.
	Tries int `json:"tries,omitempty"`
	// Of says that it was read from a file, or that it repeats the exchange of that number.
	Of string `json:"of,omitempty"`
}

// What says of what sort an exchange is.
type What string

// The sorts of exchanges; "" is a request that passed the gate.
const (
	Call    What = "call"    // of a function
	Stub    What = "stub"    // a request to a stub
	Webhook What = "webhook" // sent by a stub
	Event   What = "event"   // sent by a trigger
)

// Failed reports whether the service answered with an error of its own, or not at all.
func (e *Exchange) Failed() bool {
	if e.State != "" {
		return e.Problem != "" && e.State != Dropped
	}
	return (e.Status >= 500 || e.Status == 0 && !e.Open) && !e.Waiting
}

// Kind says of what sort it is in a word: the method of a request, "event" or "webhook".
func (e *Exchange) Kind() string {
	if e.What == Event || e.What == Webhook {
		return string(e.What)
	}
	return e.Method
}

// Where says where it went: the name and path of a request, what an event is about. Values of a
// query that are not to be shown are hidden unless secrets are wanted.
func (e *Exchange) Where(secrets bool) string {
	path := e.Path
	if !secrets {
		path = Masked(path)
	}
	switch {
	case e.Event != "":
		return e.Event
	case e.What != "" && e.Service != "":
		return e.Service + path
	}
	return e.Host + path
}

// The states of events and webhooks.
const (
	Aside   = "aside"
	Dropped = "dropped"
)

// Body is what is kept of a body.
type Body struct {
	Data []byte
	// Cut says that there was more.
	Cut bool
}

// Full is an exchange with its headers and bodies.
type Full struct {
	Exchange
	RequestHeader, Header http.Header
	Request, Response     Body
	// When it had a connection, had sent the request, and had the first byte of the answer,
	// in milliseconds since it began; 0 if it did not come that far.
	ConnectedMS, SentMS, AnsweredMS float64

	counted int // of its memory, as long as it is remembered
	gone    bool
}

// weight is about how much memory it takes.
func (f *Full) weight() int {
	n := 1500 + len(f.Path) + len(f.Request.Data) + len(f.Response.Data)
	for _, h := range []http.Header{f.RequestHeader, f.Header} {
		for name, values := range h {
			n += len(name)
			for _, v := range values {
				n += len(v)
			}
		}
	}
	return n
}

// Log is what is remembered. The zero value is empty and ready. Its methods may be called at
// the same time.
type Log struct {
	mu     sync.Mutex
	next   int64
	all    []*Full // the oldest first
	bytes  int
	routes map[string]*routeTimes
	// changed is closed and made anew whenever something is added.
	changed chan struct{}
}

// Begin adds an exchange that has begun, and gives it its number, unless it has one.
func (l *Log) Begin(f *Full) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if f.Open = true; f.ID == 0 {
		f.ID = l.number()
	}
	l.add(f)
}

// number returns the next number.
func (l *Log) number() int64 {
	l.next = max(l.next+1, time.Now().UnixMicro())
	return l.next
}

func (l *Log) add(f *Full) {
	l.all = append(l.all, f)
	l.count(f)
	l.told()
}

// count counts what an exchange takes now.
func (l *Log) count(f *Full) {
	if f.gone {
		return
	}
	l.bytes -= f.counted
	f.counted = f.weight()
	l.bytes += f.counted
}

// spare is how many go at once, so that not all the others move each time.
const spare = 256

// told lets go of what is too much, and wakes those who follow.
func (l *Log) told() {
	n := 0
	if len(l.all) > mostExchanges+spare || l.bytes > mostBytes {
		for len(l.all)-n > mostExchanges || l.bytes > mostBytes && n < len(l.all)-1 {
			l.bytes -= l.all[n].counted
			l.all[n].gone = true
			n++
		}
	}
	if n > 0 {
		l.all = slices.Delete(l.all, 0, n)
	}
	if l.changed != nil {
		close(l.changed)
		l.changed = nil
	}
}

// End completes an exchange, as change does it.
func (l *Log) End(f *Full, change func(*Full)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	change(f)
	f.Open = false
	l.count(f)
	if f.Upgrade == "" && !f.Waiting && f.Status != 0 {
		f.UsualMS = l.usual(f.Project+" "+f.Method+" "+f.Service+Route(f.Path), f.TookMS)
	}
	l.told()
}

// Amend changes an exchange that goes on.
func (l *Log) Amend(f *Full, change func(*Full)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	change(f)
}

// Changed returns what is closed when something is added or completed.
func (l *Log) Changed() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.changed == nil {
		l.changed = make(chan struct{})
	}
	return l.changed
}

// List returns exchanges of a project that the filter lets through, the newest first, n at
// most, those before the number before if that isn't 0.
func (l *Log) List(project string, f Filter, before int64, n int) []Exchange {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []Exchange{}
	now := time.Now()
	for i := len(l.all) - 1; i >= 0 && len(out) < n; i-- {
		e := l.all[i].Exchange
		if e.Project != project || before > 0 && e.ID >= before {
			continue
		}
		if e.Open {
			e.TookMS = float64(now.Sub(e.Began).Microseconds()) / 1000
		}
		if f.Lets(&e) {
			out = append(out, e)
		}
	}
	return out
}

// Get returns an exchange whole; nil if it isn't there any more.
func (l *Log) Get(project string, id int64) *Full {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range l.all {
		if f.ID == id && f.Project == project {
			c := *f
			return &c
		}
	}
	return nil
}

// Wholes returns those of the numbers that are still there, the oldest first; all of the
// project without a number.
func (l *Log) Wholes(project string, ids ...int64) []*Full {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []*Full
	for _, f := range l.all {
		if f.Project == project && (len(ids) == 0 || slices.Contains(ids, f.ID)) {
			c := *f
			out = append(out, &c)
		}
	}
	return out
}

// Import adds exchanges that were read from a file, as that project's.
func (l *Log) Import(project string, all []*Full) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range all {
		f.ID, f.Project, f.Open = l.number(), project, false
		l.add(f)
	}
}

// Clear forgets what is there of a project.
func (l *Log) Clear(project string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = slices.DeleteFunc(l.all, func(f *Full) bool {
		gone := f.Project == project && !f.Open
		if gone {
			l.bytes -= f.counted
			f.gone = true
		}
		return gone
	})
	l.told()
}

// Route returns a path without its query, in which what looks like the number or name of one
// thing is left open: "/tools/:id/loans".
func Route(path string) string {
	path, _, _ = strings.Cut(path, "?")
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if isKey(p) {
			parts[i] = ":id"
		}
	}
	return strings.Join(parts, "/")
}

// isKey reports whether a part of a path stands for one thing of many: a number, a UUID, a hash.
func isKey(part string) bool {
	if part == "" {
		return false
	}
	digits, hex := 0, 0
	for _, c := range []byte(part) {
		switch {
		case c >= '0' && c <= '9':
			digits++
			hex++
		case c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' || c == '-':
			hex++
		}
	}
	return digits == len(part) || hex == len(part) && len(part) >= 16 && digits > 0
}

// keptTimes is how many durations of a route are remembered.
const keptTimes = 51

type routeTimes struct {
	last []float64 // the latest, the oldest first
}

const mostRoutes = 2000

// usual notes how long a request of a route took, and returns the median of those before it if
// that was much shorter.
func (l *Log) usual(route string, took float64) float64 {
	if l.routes == nil || len(l.routes) > mostRoutes {
		l.routes = map[string]*routeTimes{}
	}
	r := l.routes[route]
	if r == nil {
		r = &routeTimes{}
		l.routes[route] = r
	}
	usual := 0.0
	const few = 5
	if len(r.last) >= few && took > 50 { // what is quick enough is not looked at
		if m := Median(r.last); took > 3*m && took > m+50 {
			usual = m
		}
	}
	if len(r.last) == keptTimes {
		copy(r.last, r.last[1:])
		r.last = r.last[:keptTimes-1]
	}
	r.last = append(r.last, took)
	return usual
}

// Median returns the median of values, 0 of none.
func Median(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(values))
	return s[len(s)/2]
}

// RouteSummary is what the requests of a route have in common.
type RouteSummary struct {
	Method   string  `json:"method"`
	Host     string  `json:"host"`
	Route    string  `json:"route"`
	Service  string  `json:"service,omitempty"`
	Count    int     `json:"count"`
	Failed   int     `json:"failed"`
	MedianMS float64 `json:"median_ms"`
	MostMS   float64 `json:"most_ms"`
}

// Routes sums up exchanges by their routes, the slowest at the median first.
func Routes(all []Exchange) []RouteSummary {
	type key struct{ method, host, route, service string }
	times, failed := map[key][]float64{}, map[key]int{}
	for i := range all {
		e := &all[i]
		if e.Open || e.Upgrade != "" {
			continue
		}
		k := key{e.Method, e.Host, Route(e.Path), e.Service}
		times[k] = append(times[k], e.TookMS)
		if e.Failed() {
			failed[k]++
		}
	}
	out := []RouteSummary{}
	for k, took := range times {
		out = append(out, RouteSummary{k.method, k.host, k.route, k.service, len(took), failed[k], Median(took), slices.Max(took)})
	}
	slices.SortFunc(out, func(a, b RouteSummary) int {
		switch {
		case a.MedianMS > b.MedianMS:
			return -1
		case a.MedianMS < b.MedianMS:
			return 1
		}
		return strings.Compare(a.Host+a.Route+a.Method, b.Host+b.Route+b.Method)
	})
	return out
}
