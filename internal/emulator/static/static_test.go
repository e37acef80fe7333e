package static_test

import (
	"bytes"
	"context"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/static"
)

// site is a folder with a page, a secret beside it, and a link to the secret.
func site(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{"web/index.html": "Toolshed", "web/app.js": "drill()", "web/shelf/a.txt": "A1", "secret": "key"} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink(filepath.Join(dir, "secret"), filepath.Join(dir, "web/link")))
	return filepath.Join(dir, "web")
}

func TestHandler(t *testing.T) {
	root := site(t)
	for name, c := range map[string]struct {
		options static.Options
		path    string
		status  int
		body    string
	}{
		"index":           {static.Options{}, "/", 200, "Toolshed"},
		"file":            {static.Options{}, "/app.js", 200, "drill()"},
		"missing":         {static.Options{}, "/loans/12", 404, "there is no /loans/12 here"},
		"fallback":        {static.Options{Fallback: "index.html"}, "/loans/12", 200, "Toolshed"},
		"not for files":   {static.Options{Fallback: "index.html"}, "/missing.js", 404, "there is no"},
		"no listing":      {static.Options{}, "/shelf/", 404, "there is no"},
		"listing":         {static.Options{Listing: true}, "/shelf/", 200, "a.txt"},
		"up and out":      {static.Options{}, "/../secret", 404, "there is no"},
		"a link outwards": {static.Options{}, "/link", 404, "there is no"},
	} {
		t.Run(name, func(t *testing.T) {
			c.options.Root = root
			h, err := static.Handler(c.options)
			require.NoError(t, err)
			w := httptest.NewRecorder()
			h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, c.path, nil))
			assert.Equal(t, c.status, w.Code)
			assert.Contains(t, w.Body.String(), c.body)
			assert.Equal(t, "no-store", w.Header().Get("Cache-Control"))
		})
	}
	_, err := static.Handler(static.Options{Root: filepath.Join(root, "nowhere")})
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestServe(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var said bytes.Buffer
	done := make(chan error, 1)
	go func() { done <- static.Serve(ctx, l, static.Options{Root: site(t)}, log.New(&said, "", 0)) }()
	resp, err := http.Get("http://" + l.Addr().String() + "/app.js?x=1")
	require.NoError(t, err)
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, "drill()", string(b))
	cancel()
	require.NoError(t, <-done)
	assert.Equal(t, "200 GET /app.js?x=1\n", said.String())
}

// What the server was told to do wrong it does, and logs as it was.
func TestMisbehaves(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	said := make(lines, 10)
	done := make(chan error, 1)
	logger := log.New(said, "", 0)
	rules := misbehave.Follow("", log.New(io.Discard, "", 0))
	go func() {
		done <- static.Serve(ctx, l, static.Options{Root: site(t), Ready: "/ready", Misbehave: rules}, logger)
	}()
	get := func(path string) (*http.Response, string, error) {
		resp, err := http.Get("http://" + l.Addr().String() + path)
		if err != nil {
			return nil, "", err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		return resp, string(b), err
	}
	for _, c := range []struct {
		rules  misbehave.Rules
		status int
		body   string
	}{
		{misbehave.Rules{Errors: 100}, 500, "told to answer with"},
		{misbehave.Rules{Throttled: 100}, 429, "too many requests"},
		{misbehave.Rules{Clock: time.Hour, Slow: time.Millisecond}, 200, "drill()"},
	} {
		require.NoError(t, rules.Set(c.rules))
		resp, body, err := get("/app.js")
		require.NoError(t, err)
		assert.Equal(t, c.status, resp.StatusCode)
		assert.Contains(t, body, c.body)
		at, err := http.ParseTime(resp.Header.Get("Date"))
		require.NoError(t, err)
		assert.WithinDuration(t, time.Now().Add(c.rules.Clock), at, time.Minute)
	}
	require.NoError(t, rules.Set(misbehave.Rules{Cut: 100}))
	_, body, err := get("/app.js")
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.Equal(t, "dri", body)
	resp, _, err := get("/ready")
	require.NoError(t, err)
	assert.Equal(t, http.StatusNoContent, resp.StatusCode, "it is there all the same")
	for _, status := range []string{"500", "429", "200", "200"} {
		assert.Equal(t, status+" GET /app.js\n", <-said)
	}
	cancel()
	require.NoError(t, <-done)
	assert.Empty(t, said)
}

// lines is what a logger writes.
type lines chan string

func (l lines) Write(b []byte) (int, error) {
	l <- string(b)
	return len(b), nil
}
