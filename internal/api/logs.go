package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"neighbour/internal/core/record/journal"
)

// LogQuery asks for a part of the time line of what services printed.
type LogQuery struct {
	// Services are those that are asked for; none: all.
	Services []string
	// Events asks for what the keeper noted, too.
	Events bool
	// Event asks for the events of this name, and for nothing else.
	Event string
	Level journal.Level
	// Patterns must all match: texts, or expressions between slashes.
	Patterns []string
	// From is the first place that may be in the answer, Before the first that
	// may not.
	From, Before journal.Place
	// N is how many entries are wanted at most, up to 10,000.
	N int
	// Oldest asks for the first of them rather than the last.
	Oldest bool
}

func (q LogQuery) values() url.Values {
	v := url.Values{"pattern": q.Patterns}
	set := func(key, value string) {
		if value != "" {
			v.Set(key, value)
		}
	}
	set("services", strings.Join(q.Services, ","))
	set("level", q.Level.String())
	set("event", q.Event)
	set("from", q.From.String())
	set("before", q.Before.String())
	if q.N > 0 {
		v.Set("n", strconv.Itoa(q.N))
	}
	if q.Events {
		v.Set("events", "true")
	}
	if q.Oldest {
		v.Set("oldest", "true")
	}
	return v
}

// readLogQuery reads a request's query.
func readLogQuery(v url.Values) (q journal.Query, err error) {
	q.N = 500
	if s := v.Get("services"); s != "" {
		q.Services = strings.Split(s, ",")
	}
	q.Event = v.Get("event")
	q.Events, q.Oldest = v.Get("events") == "true", v.Get("oldest") == "true"
	if err := q.Level.UnmarshalText([]byte(v.Get("level"))); err != nil {
		return q, err
	}
	for _, text := range v["pattern"] {
		p, err := journal.Parse(text)
		if err != nil {
			return q, err
		}
		if p != nil {
			q.Patterns = append(q.Patterns, p)
		}
	}
	if err := q.From.UnmarshalText([]byte(v.Get("from"))); err != nil {
		return q, err
	}
	if err := q.Before.UnmarshalText([]byte(v.Get("before"))); err != nil {
		return q, err
	}
	if s := v.Get("n"); s != "" {
		if q.N, err = strconv.Atoi(s); err != nil || q.N < 1 || q.N > 10_000 {
			return q, fmt.Errorf("n=%s: it must be a number from 1 to 10000", s)
		}
	}
	return q, nil
}

func (s *Server) logs(r *http.Request, _ none) (journal.Answer, func(), error) {
	q, err := readLogQuery(r.URL.Query())
	if err != nil {
		return journal.Answer{}, nil, &BadRequestError{err}
	}
	a, err := s.keeper.Log(r.Context(), q)
	return a, nil, err
}

// countLogs tells how far the count has come, as server-sent events; the last
// is the result.
func (s *Server) countLogs(w http.ResponseWriter, r *http.Request) {
	q, err := readLogQuery(r.URL.Query())
	if err != nil {
		reply(w, http.StatusBadRequest, Problem{err.Error()})
		return
	}
	begun := false
	tell := func(c journal.Count) {
		if !begun {
			w.Header().Set("Content-Type", "text/event-stream")
			begun = true
		}
		_ = sendEvent(w, c)
	}
	c, err := s.keeper.CountLog(r.Context(), q, tell)
	switch {
	case err == nil:
		tell(c)
	case !begun:
		refuse(w, http.StatusInternalServerError, err)
	}
}

// tailLogs sends the entries that come, until the client or the keeper goes.
func (s *Server) tailLogs(w http.ResponseWriter, r *http.Request) {
	q, err := readLogQuery(r.URL.Query())
	if err != nil {
		reply(w, http.StatusBadRequest, Problem{err.Error()})
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	_ = http.NewResponseController(w).Flush()
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	_ = s.keeper.TailLog(ctx, q, func(e journal.Entry) {
		if sendEvent(w, e) != nil {
			cancel()
		}
	})
}

// TailLogs gives write what comes after a place from now on, until the context
// ends or the keeper goes, which is no error.
func (c *Client) TailLogs(ctx context.Context, q LogQuery, write func(journal.Entry)) error {
	resp, err := c.send(ctx, tailEndpoint.method, tailEndpoint.path+"?"+q.values().Encode(), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	for in := newStream(resp.Body); ; {
		data, err := in.next()
		if err != nil {
			return nil
		}
		var e journal.Entry
		if err := json.Unmarshal(data, &e); err != nil {
			return err
		}
		write(e)
	}
}

// Logs asks for a part of the time line.
func (c *Client) Logs(ctx context.Context, q LogQuery) (journal.Answer, error) {
	var a journal.Answer
	err := c.do(ctx, logsEndpoint.method, logsEndpoint.path+"?"+q.values().Encode(), nil, &a)
	return a, err
}

// CountLogs counts what Logs would find without its limit. It calls progress
// with how far that has come.
func (c *Client) CountLogs(ctx context.Context, q LogQuery, progress func(journal.Count)) (journal.Count, error) {
	resp, err := c.send(ctx, countEndpoint.method, countEndpoint.path+"?"+q.values().Encode(), nil)
	if err != nil {
		return journal.Count{}, err
	}
	defer resp.Body.Close()
	var last journal.Count
	e := newStream(resp.Body)
	for {
		data, err := e.next()
		if err != nil {
			if last.Read < last.Size {
				return last, err
			}
			return last, nil
		}
		if err := json.Unmarshal(data, &last); err != nil {
			return last, err
		}
		if progress != nil {
			progress(last)
		}
	}
}
