package proxy

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync/atomic"
	"testing"

	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/record/traffic"
)

// leading returns a gate on which names lead to addresses.
func leading(targets map[string]*Target) *Gate {
	g := New(&traffic.Log{}, 443, 80, slog.New(slog.DiscardHandler))
	table := &route.Table[*atomic.Pointer[Target]]{}
	for name, t := range targets {
		pattern, err := route.Parse(name)
		if err != nil {
			panic(err)
		}
		p := &atomic.Pointer[Target]{}
		p.Store(t)
		if err := table.Add(pattern, p); err != nil {
			panic(err)
		}
	}
	g.Use(table)
	return g
}

// BenchmarkGate passes small requests on, and remembers them; beside it a ReverseProxy that
// does nothing else.
func BenchmarkGate(b *testing.B) {
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ok\n") }))
	defer up.Close()
	u, _ := url.Parse(up.URL)
	b.Run("gate", func(b *testing.B) {
		pass(b, leading(map[string]*Target{"shed.localhost": {Project: "shed", Service: "web", URL: u, Ready: true, KeepHost: true}}))
	})
	b.Run("bare", func(b *testing.B) {
		pass(b, &httputil.ReverseProxy{
			Rewrite:   func(r *httputil.ProxyRequest) { r.SetURL(u); r.SetXForwarded() },
			Transport: &http.Transport{MaxIdleConnsPerHost: 256},
		})
	})
}

func pass(b *testing.B, proxy http.Handler) {
	front := httptest.NewServer(proxy)
	defer front.Close()
	b.ReportAllocs()
	b.SetParallelism(16)
	b.RunParallel(func(pb *testing.PB) {
		c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
		for pb.Next() {
			req, _ := http.NewRequest("GET", front.URL, nil)
			req.Host = "shed.localhost"
			resp, err := c.Do(req)
			if err != nil {
				b.Fatal(err)
			}
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	})
}
