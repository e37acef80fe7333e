package api

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/project"
)

// Whatever is asked, the keeper answers, and goes on.
func FuzzRequests(f *testing.F) {
	for _, r := range [][3]string{
		{"GET", "/v" + Version + "/logs?n=3&level=warn&pattern=/a/&from=1:2:api&before=9:9:~&oldest=true", ""},
		{"GET", "/v" + Version + "/logs/count?services=api,web", ""}, {"GET", "/v" + Version + "/logs?from=x", ""}, {"GET", "/v" + Version + "/logs?n=-1", ""},
		{"POST", "/v" + Version + "/start", `{"services":["api"]}`}, {"POST", "/v" + Version + "/stop", `{"services":["nothing"]}`}, {"POST", "/v" + Version + "/restart", `{"with_needs":1}`},
		{"POST", "/v" + Version + "/remedy", `{"finding":"x","action":{"do":"port"}}`}, {"POST", "/v" + Version + "/declaration", `{"service":"api","set":{"port":"x"}}`},
		{"POST", "/v" + Version + "/apply", ""}, {"GET", "/v" + Version + "/services/api/impact", ""}, {"GET", "/v" + Version + "/wiring", ""}, {"GET", "/v" + Version + "/events", ""}, {"PUT", "/v2//..", "\x00"},
	} {
		f.Add(r[0], r[1], []byte(r[2]))
	}
	dir := f.TempDir()
	f.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	// Nothing of it can be started.
	require.NoError(f, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.api]\nrun = \"./no-such-program\"\n"), 0o600))
	p, err := project.Open(dir)
	require.NoError(f, err)
	require.NoError(f, p.EnsureDirs())
	ctx, cancel := context.WithCancel(context.Background())
	f.Cleanup(cancel)
	log := slog.New(slog.DiscardHandler)
	server := NewServer(keep.New(ctx, p, log), func() {}, log)
	server.replace = func() {}
	f.Fuzz(func(t *testing.T, method, target string, body []byte) {
		u, err := url.ParseRequestURI(target)
		if err != nil || u.Host != "" {
			return
		}
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		r := (&http.Request{Method: method, URL: u, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(body))}).WithContext(ctx)
		w := httptest.NewRecorder()
		server.checkVersion(w, r)
		assert.NotZero(t, w.Code)
		if u.Path == "/v"+Version+"/status" && method == http.MethodGet {
			assert.Equal(t, http.StatusOK, w.Code)
		}
	})
}
