package stub

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/record/traffic"
)

// Asked is a request that the stub was asked.
type Asked struct {
	ID      int64          `json:"id"`
	At      time.Time      `json:"at"`
	Method  string         `json:"method"`
	Path    string         `json:"path"`
	Query   map[string]any `json:"query,omitempty"`
	Headers map[string]any `json:"headers"`
	Body    any            `json:"body,omitempty"`
	Status  int            `json:"status"`
}

// mostAsked is how many requests are told at a time.
const mostAsked = 500

// requests tells which requests came that have the wanted values, for tests: method and path,
// and places such as body.amount. With count it is 409 unless there are so many; it waits for
// them as long as wait says.
func (s *Server) requests(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	count, wait := -1, time.Duration(0)
	if text := q.Get("count"); text != "" {
		var err error
		if count, err = strconv.Atoi(text); err != nil || count < 0 {
			fail(w, http.StatusBadRequest, fmt.Sprintf("count=%s: write a number", text))
			return
		}
	}
	if text := q.Get("wait"); text != "" {
		var err error
		if wait, err = time.ParseDuration(text); err != nil || wait < 0 || wait > time.Minute {
			fail(w, http.StatusBadRequest, fmt.Sprintf("wait=%s: write for example 2s, at most 1m", text))
			return
		}
	}
	for _, name := range []string{"count", "wait"} {
		q.Del(name)
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		changed := s.Calls.Changed()
		all := s.asked(q)
		if count < 0 || len(all) == count {
			reply(w, http.StatusOK, map[string]any{"count": len(all), "requests": all[:min(len(all), mostAsked)]})
			return
		}
		select {
		case <-changed:
		case <-timer.C:
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusConflict)
			_ = json.NewEncoder(w).Encode(map[string]any{"count": len(all), "requests": all[:min(len(all), mostAsked)], "error": fmt.Sprintf("there are %d such requests, and %d were expected", len(all), count)})
			return
		case <-r.Context().Done():
			return
		}
	}
}

// asked lists the requests that have values, the oldest first.
func (s *Server) asked(want url.Values) []Asked {
	out := []Asked{}
	for _, f := range s.Calls.Wholes("") {
		if f.What != traffic.Stub || f.Open {
			continue
		}
		u, err := url.ParseRequestURI(f.Path)
		if err != nil {
			continue
		}
		data := dataOf(&http.Request{Method: f.Method, URL: u, Header: f.RequestHeader}, f.Request.Data)
		data["path"] = u.Path
		data["status"] = strconv.Itoa(f.Status)
		meant := true
		for place, values := range want {
			if place == "path" && strings.HasSuffix(values[0], "*") {
				meant = meant && strings.HasPrefix(u.Path, strings.TrimSuffix(values[0], "*"))
				continue
			}
			meant = meant && has(data, place, values[0])
		}
		if !meant {
			continue
		}
		out = append(out, Asked{ID: f.ID, At: f.Began, Method: f.Method, Path: u.Path, Query: data["query"].(map[string]any), Headers: data["headers"].(map[string]any), Body: data["body"], Status: f.Status})
	}
	return out
}

// reset forgets what was asked, how often, and what routes remember.
func (s *Server) reset(w http.ResponseWriter, _ *http.Request) {
	s.Calls.Clear("")
	s.mu.Lock()
	clear(s.state)
	clear(s.calls)
	s.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}
