package server

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/proxy"
	_ "neighbour/internal/kinds/catalogue"
)

// From the machine's network one comes to the front of the project that allows it, by the
// machine's address, and to nothing else.
func TestFromTheNetwork(t *testing.T) {
	t.Parallel()
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.Host+" "+r.Header.Get("X-Forwarded-Port")+" "+r.Header.Get("X-Forwarded-Proto"))
	}))
	defer up.Close()
	u, err := url.Parse(up.URL)
	require.NoError(t, err)
	target := &atomic.Pointer[proxy.Target]{}
	target.Store(&proxy.Target{Project: "shed", Service: "web", URL: u, Ready: true, KeepHost: true, HTTPSOnly: true})
	s := &server{log: slog.New(slog.DiscardHandler), gate: proxy.New(&traffic.Log{}, 443, 80, slog.New(slog.DiscardHandler)), lan: map[string]*lan{}, lanProblems: map[string]string{}, changed: make(chan struct{})}
	m := &member{Registration: control.Registration{Dir: "/shed", Name: "shed"}, targets: map[string]*atomic.Pointer[proxy.Target]{"shed.localhost": target}}
	s.projects = []*member{m}
	_, network, _ := net.ParseCIDR("192.0.2.0/24")
	h := s.fromLAN(&lan{address: "192.0.2.2:8800", network: network}, "/shed", "shed.localhost")
	ask := func(from, host string) (int, string) {
		r := httptest.NewRequest("GET", "http://"+host+"/", nil)
		r.RemoteAddr = from
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	code, body := ask("192.0.2.77:4000", "192.0.2.2:8800")
	assert.Equal(t, 200, code)
	assert.Equal(t, "192.0.2.2:8800 8800 http", body, "without a way to https, which a phone would not trust")
	for _, c := range []struct {
		from, host string
		code       int
	}{
		{"198.51.100.7:4000", "192.0.2.2:8800", 403}, {"127.0.0.1:4000", "192.0.2.2:8800", 403}, {"nobody", "192.0.2.2:8800", 403},
		{"192.0.2.77:4000", "shed.localhost", 421}, {"192.0.2.77:4000", "evil.example.org", 421}, {"192.0.2.77:4000", "192.0.2.2", 421},
	} {
		code, _ := ask(c.from, c.host)
		assert.Equal(t, c.code, code, "%s %s", c.from, c.host)
	}
	// An emulator answers to names of this machine alone, and what it tells of itself is for its user.
	target.Store(&proxy.Target{Project: "shed", Service: "web", URL: u, Ready: true, KeepHost: true, Private: private("functions")})
	code, body = ask("192.0.2.77:4000", "192.0.2.2:8800")
	assert.Equal(t, 200, code)
	assert.Contains(t, body, u.Host)
	target.Store(&proxy.Target{Project: "shed", Service: "web", URL: u, Ready: true, KeepHost: true, Private: private("mail")})
	code, _ = ask("192.0.2.77:4000", "192.0.2.2:8800")
	assert.Equal(t, 403, code)
	// Others learn nothing of why it isn't ready, nor what it printed.
	target.Store(&proxy.Target{Project: "shed", Service: "web", Story: func(context.Context) proxy.Story {
		return proxy.Story{State: "failed", Why: "exit 1: hunter2", Waits: []string{"ledger: hunter2"}, Lines: []string{"hunter2"}}
	}})
	for _, header := range [][2]string{{"Accept", "text/html"}, {"Accept", "*/*"}, {"Neighbour-Waiting", "1"}} {
		r := httptest.NewRequest("GET", "http://192.0.2.2:8800/", nil)
		r.RemoteAddr = "192.0.2.77:4000"
		r.Header.Set(header[0], header[1])
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		assert.Contains(t, w.Body.String(), "failed", header)
		assert.NotContains(t, w.Body.String(), "hunter2", header)
	}
	m.targets = nil
	code, _ = ask("192.0.2.77:4000", "192.0.2.2:8800")
	assert.Equal(t, 503, code)
}

// One project that can't be reached is in no other's way.
func TestProjectsInTheNetwork(t *testing.T) {
	s := &server{log: slog.New(slog.DiscardHandler), lan: map[string]*lan{}, lanProblems: map[string]string{"/library": "of before"}}
	for _, dir := range []string{"/private", "/shed", "/library"} {
		m := &member{Registration: control.Registration{Dir: dir}}
		if dir != "/private" {
			m.at.LAN = "front.localhost"
		}
		s.projects = append(s.projects, m)
	}
	var opened []string
	s.openEach(func(dir, _ string) error {
		if dir == "/shed" {
			return errors.New("no port is free")
		}
		opened = append(opened, dir)
		return nil
	})
	assert.Equal(t, []string{"/library"}, opened)
	assert.Equal(t, map[string]string{"/shed": "lan = true: others can't reach the project: no port is free"}, s.lanProblems)
}

// A project has the port that it had before.
func TestPortsInTheNetwork(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	require.NoError(t, project.EnsureGateDir())
	own := net.IPv4(127, 0, 0, 9)
	first, err := listenLAN("/shed", own)
	require.NoError(t, err)
	second, err := listenLAN("/library", own)
	require.NoError(t, err)
	assert.NotEqual(t, first.Addr().String(), second.Addr().String())
	had := first.Addr().String()
	require.NoError(t, first.Close())
	require.NoError(t, second.Close())
	again, err := listenLAN("/shed", own)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, had, again.Addr().String())
}
