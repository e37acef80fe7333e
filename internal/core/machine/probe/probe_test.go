package probe_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/probe"
)

func check(p probe.Probe) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	return p.Check(ctx)
}

func closedAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func TestTCP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	closed := closedAddress(t)
	answer, err := check(probe.TCP(closed, l.Addr().String()))
	require.NoError(t, err)
	assert.Contains(t, answer, "accepts connections")
	_, err = check(probe.TCP(closed))
	assert.EqualError(t, err, "connection refused")
}

func TestHTTP(t *testing.T) {
	release := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/well", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Shed", "open")
		fmt.Fprint(w, "Toolshed is open")
	})
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/ill", http.StatusFound) })
	mux.HandleFunc("/ill", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) })
	mux.HandleFunc("/hangs", func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-release:
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("/drops", func(w http.ResponseWriter, _ *http.Request) {
		conn, _, err := http.NewResponseController(w).Hijack()
		if err == nil {
			conn.Close()
		}
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	defer close(release)
	for name, c := range map[string]struct {
		probe probe.HTTP
		want  string // begins with "error: " for one
	}{
		"well":         {probe.HTTP{URLs: []string{server.URL + "/well"}}, "200 after"},
		"second url":   {probe.HTTP{URLs: []string{"http://" + closedAddress(t), server.URL + "/well"}}, "200 after"},
		"redirect":     {probe.HTTP{URLs: []string{server.URL + "/away"}}, "302 after"},
		"all of it":    {probe.HTTP{URLs: []string{server.URL + "/well"}, Status: 200, Header: map[string]string{"X-Shed": "open"}, Body: "open"}, "200 after"},
		"ill":          {probe.HTTP{URLs: []string{server.URL + "/ill"}}, "error: 503 after"},
		"ill, wanted":  {probe.HTTP{URLs: []string{server.URL + "/ill"}, Status: 503}, "503 after"},
		"wrong status": {probe.HTTP{URLs: []string{server.URL + "/well"}, Status: 204}, "wanted 204"},
		"wrong header": {probe.HTTP{URLs: []string{server.URL + "/well"}, Header: map[string]string{"X-Shed": "shut"}}, `header X-Shed is "open", wanted "shut"`},
		"wrong body":   {probe.HTTP{URLs: []string{server.URL + "/well"}, Body: "closed"}, `without the text "closed"`},
		"hangs":        {probe.HTTP{URLs: []string{server.URL + "/hangs"}}, "error: no answer in time"},
		"drops":        {probe.HTTP{URLs: []string{server.URL + "/drops"}}, "error: connection closed without an answer"},
		"refused":      {probe.HTTP{URLs: []string{"http://" + closedAddress(t)}}, "error: connection refused"},
	} {
		t.Run(name, func(t *testing.T) {
			answer, err := check(c.probe)
			if err != nil {
				answer = "error: " + err.Error()
			}
			assert.Contains(t, answer, c.want)
			assert.Equal(t, strings.Contains(c.want, "error") || strings.Contains(c.want, "want") || strings.Contains(c.want, "without"), err != nil)
		})
	}
}

func TestRun(t *testing.T) {
	sh := func(script string) probe.Run { return probe.Run{Argv: []string{"/bin/sh", "-c", script}, Dir: "/"} }
	answer, err := check(sh("exit 0"))
	require.NoError(t, err)
	assert.Contains(t, answer, "exit 0 after")
	_, err = check(sh("echo noise; echo the shelf is empty >&2; exit 4"))
	assert.EqualError(t, err, "exit 4: the shelf is empty")
	_, err = check(sh("exit 2"))
	assert.ErrorContains(t, err, "exit 2 after")
	began := time.Now()
	_, err = check(sh("sleep 60 & wait"))
	assert.ErrorContains(t, err, "did not end in time")
	assert.Less(t, time.Since(began), 50*time.Second, "with all that it started")
	_, err = check(probe.Run{Argv: []string{"/no/such/check"}})
	assert.Error(t, err)
}
