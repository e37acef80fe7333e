package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"reflect"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
)

// endpoint is a request that a keeper answers. It is declared here and nowhere
// else: the server's route, the client's call and docs/openapi.yaml come from it.
type endpoint[In, Out any] struct {
	method, path     string // the path without the version
	summary, details string
	query            []parameter
	code             int  // of an answer; 0: 200
	refusal          int  // of an error that is nobody's mistake in the request; 0: 500
	stream           bool // the answer is server-sent events, each with an Out
}

// parameter is one of a request's query.
type parameter struct {
	name, says, kind string
}

// none is no body.
type none struct{}

// logQuery are the parameters of requests about logs.
var logQuery = []parameter{
	{"services", "those that are asked for, separated by commas; all if it is left out", "string"},
	{"events", "true: what the keeper noted, too", "boolean"},
	{"event", "only the events of this name: start, ready, failed", "string"},
	{"level", "only entries of this level and worse: debug, info, warn, error", "string"},
	{"pattern", "a text, or an expression between slashes; several must all match", "string"},
	{"from", "the first place that may be in the answer", "string"},
	{"before", "the first place that may not", "string"},
	{"n", "how many, at most 10000; 500 if it is left out", "integer"},
	{"oldest", "true: the first of them rather than the last", "boolean"},
}

// The endpoints.
var (
	helloEndpoint  = endpoint[none, Keeper]{method: "GET", path: "/keeper", summary: "Ask whether a keeper is there"}
	statusEndpoint = endpoint[none, Snapshot]{method: "GET", path: "/status", summary: "Everything as it is now"}
	eventsEndpoint = endpoint[none, Snapshot]{method: "GET", path: "/events", stream: true, summary: "Everything as it is now, and then what changes",
		details: "The first event has all services, later ones have those that changed. A client that is slow gets the newest and misses what was in between. The stream ends with the keeper.",
		query:   []parameter{{"progress", "true: only what tells how far a start is; the rest of each service is left empty", "boolean"}, {"moves", "true: only services that come into another state", "boolean"}}}
	operationsEndpoint = endpoint[none, []keep.Operation]{method: "GET", path: "/operations", summary: "The operations under way, and the latest that ended"}
	cancelEndpoint     = endpoint[none, Done]{method: "POST", path: "/operations/{id}/cancel", refusal: 422, summary: "Cancel an operation",
		details: "One that waits is not carried out. Of a start, the services that are not ready yet are stopped. A stop goes on for those that were asked to end."}
	startEndpoint = endpoint[Names, Done]{method: "POST", path: "/start", code: 202, summary: "Start services with what they need",
		details: "The answer comes when it was taken up. What was told before the answer's `began` is older."}
	stopEndpoint = endpoint[Names, Done]{method: "POST", path: "/stop", summary: "Stop services with what needs them",
		details: "The answer comes when nothing of them is left. Without names everything is stopped, and the keeper ends."}
	restartEndpoint = endpoint[Names, Done]{method: "POST", path: "/restart", code: 202, summary: "Stop services and start them again",
		details: "What needs them is left running and told."}
	logsEndpoint  = endpoint[none, journal.Answer]{method: "GET", path: "/logs", summary: "A part of the time line of what services printed", query: logQuery}
	countEndpoint = endpoint[none, journal.Count]{method: "GET", path: "/logs/count", stream: true, summary: "How many entries there would be without a limit",
		details: "Events tell how far the count has come; the last is the result.", query: logQuery}
	tailEndpoint = endpoint[none, journal.Entry]{method: "GET", path: "/logs/tail", stream: true, summary: "What services print from now on",
		details: "With from, what there is after that place comes first. The stream ends with the keeper.", query: logQuery}
	impactEndpoint      = endpoint[none, insight.Impact]{method: "GET", path: "/services/{name}/impact", summary: "What else an operation on a service is about"}
	environmentEndpoint = endpoint[none, []project.Explained]{method: "GET", path: "/services/{name}/environment", summary: "The variables that a service gets, and those that lead to it if it is a server",
		details: "Values are as they are, passwords too.",
		query:   []parameter{{"files", "true: say what each variable hides in env files, too", "boolean"}}}
	kindsEndpoint  = endpoint[none, []project.Available]{method: "GET", path: "/kinds", summary: "The kinds that a service may be of, and what is installed"}
	checksEndpoint = endpoint[none, []check.Finding]{method: "GET", path: "/checks", summary: "What would go wrong, the worst first"}
	wiringEndpoint = endpoint[none, insight.Wiring]{method: "GET", path: "/wiring", summary: "Which service gets what from which, the ports, and how the env files compare",
		details: "Values are as they are, passwords too; those of a production file are left out."}
	startsEndpoint = endpoint[none, []history.Summary]{method: "GET", path: "/starts", summary: "The latest starts, the newest last",
		details: "One that is under way, or has just ended, has the id 0.",
		query:   []parameter{{"n", "how many at most; 200 if it is left out", "integer"}}}
	startReportEndpoint = endpoint[none, starts.Report]{method: "GET", path: "/starts/{id}", summary: "How a start went, what decided it, and how it compares with earlier ones",
		details: "The id 0 is the start that began last, which may be under way."}
	usageEndpoint = endpoint[none, usage.Report]{method: "GET", path: "/usage", summary: "What the services and the machine used over a period up to now",
		details: "While somebody asks, it is measured each second.",
		query:   []parameter{{"period", "how long, in seconds; 300 if it is left out, at most a day", "integer"}, {"parts", "of how many equal parts the period is made; 60 if it is left out, at most 1000", "integer"}}}
	remedyEndpoint  = endpoint[Remedy, Remedied]{method: "POST", path: "/remedy", refusal: 422, summary: "Do something about a finding, as it was confirmed"}
	changesEndpoint = endpoint[none, []insight.Effect]{method: "GET", path: "/changes", refusal: 422, summary: "What the declaration as it is now means for the services"}
	applyEndpoint   = endpoint[Names, []insight.Effect]{method: "POST", path: "/apply", refusal: 422, summary: "Carry that out; the keeper is replaced by one that has read the declaration",
		details: "What goes or restarts is stopped before the answer. The keeper then becomes, in the same process, one that has read the declaration; it closes its connections, adopts what runs, and starts what is to start."}
	rereadEndpoint = endpoint[Names, Rereading]{method: "POST", path: "/reread", refusal: 422, summary: "Read the declaration again, if that touches nothing that runs",
		details: "Unless a service that runs would restart or stop, the keeper becomes one that has read the declaration, as after an apply; nothing is started. The services of the request are those that may be touched."}
	editEndpoint = endpoint[project.Change, Done]{method: "POST", path: "/declaration", refusal: 422, summary: "Change the declaration's file; what runs goes on as it is"}
)

// described is what the description of the interface says of an endpoint.
type described struct {
	method, path, summary, details string
	query                          []parameter
	code, refusal                  int
	stream                         bool
	in, out                        reflect.Type
}

func (e endpoint[In, Out]) describe() described {
	d := described{e.method, e.path, e.summary, e.details, e.query, e.code, e.refusal, e.stream, reflect.TypeFor[In](), reflect.TypeFor[Out]()}
	if d.code == 0 {
		d.code = http.StatusOK
	}
	if d.refusal == 0 {
		d.refusal = http.StatusInternalServerError
	}
	return d
}

// handle answers an endpoint's requests. Do returns the answer, and what is to be
// done after it was sent; nil: nothing.
func handle[In, Out any](s *Server, e endpoint[In, Out], do func(r *http.Request, in In) (out Out, after func(), err error)) {
	d := e.describe()
	s.route(d, func(w http.ResponseWriter, r *http.Request) {
		var in In
		if d.in != reflect.TypeFor[none]() {
			if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&in); err != nil {
				reply(w, http.StatusBadRequest, Problem{"the request's body is not what it should be: " + err.Error()})
				return
			}
		}
		out, after, err := do(r, in)
		if err != nil {
			refuse(w, d.refusal, err)
			return
		}
		reply(w, d.code, out)
		if after != nil {
			after()
		}
	})
}

// handleStream answers an endpoint whose answer is a stream.
func handleStream[In, Out any](s *Server, e endpoint[In, Out], do http.HandlerFunc) {
	s.route(e.describe(), do)
}

func (s *Server) route(d described, do http.HandlerFunc) {
	s.described = append(s.described, d)
	s.mux.HandleFunc(d.method+" /v"+Version+d.path, do)
}

// BadRequestError is a mistake in a request.
type BadRequestError struct{ Err error }

func (e *BadRequestError) Error() string { return e.Err.Error() }

// refuse answers with an error.
func refuse(w http.ResponseWriter, code int, err error) {
	var unknown *declare.UnknownServiceError
	var bad *BadRequestError
	switch {
	case errors.As(err, &unknown), errors.Is(err, keep.ErrNoOperation), errors.Is(err, history.ErrNone):
		code = http.StatusNotFound
	case errors.As(err, &bad):
		code = http.StatusBadRequest
	}
	reply(w, code, Problem{err.Error()})
}

// call asks a keeper. What stands in braces in the endpoint's path is replaced by
// the values, in order.
func call[In, Out any](ctx context.Context, c *Client, e endpoint[In, Out], in In, values ...string) (Out, error) {
	var out Out
	var body any = in
	if reflect.TypeFor[In]() == reflect.TypeFor[none]() {
		body = nil
	}
	err := c.do(ctx, e.method, e.at(values...), body, &out)
	return out, err
}

// at returns the endpoint's path with values in the place of what stands in
// braces.
func (e endpoint[In, Out]) at(values ...string) string {
	path := e.path
	for _, v := range values {
		from, to := strings.IndexByte(path, '{'), strings.IndexByte(path, '}')
		path = path[:from] + url.PathEscape(v) + path[to+1:]
	}
	return path
}
