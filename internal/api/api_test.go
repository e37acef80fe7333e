package api

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
)

// serve runs a keeper in this process and returns a client of it.
func serve(t *testing.T, toml string) (*Client, *project.Project) {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(toml), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	l, err := net.Listen("unix", p.Socket())
	require.NoError(t, err)
	log := slog.New(slog.DiscardHandler)
	ctx, cancel := context.WithCancel(context.Background())
	k := keep.New(ctx, p, log)
	adopted, ran, served := make(chan struct{}), make(chan error, 1), make(chan error, 1)
	go func() { ran <- k.Run(adopted) }()
	<-adopted
	go func() { served <- NewServer(k, cancel, log).Serve(ctx, l) }()
	c := NewClient(p.Socket())
	t.Cleanup(func() {
		_, _ = k.Stop(context.Background())
		cancel()
		c.Close()
		assert.NoError(t, <-served)
		assert.NoError(t, <-ran)
	})
	return c, p
}

const two = "[service.base]\nrun = \"sh -c 'echo hello; exec sleep 1000'\"\n[service.top]\nrun = \"sleep 1000\"\nneeds = [\"base\"]\n"

func TestClientAndKeeper(t *testing.T) {
	defer goleak.VerifyNone(t, goleak.IgnoreCurrent())
	t.Run("all of it", func(t *testing.T) {
		ctx := t.Context()
		c, _ := serve(t, two)
		hello, err := c.Hello(ctx)
		require.NoError(t, err)
		assert.Equal(t, Keeper{PID: os.Getpid(), Version: Version}, hello)
		events, err := c.Events(ctx)
		require.NoError(t, err)
		defer events.Close()
		first, err := events.Next()
		require.NoError(t, err)
		assert.Len(t, first.Services, 2)

		began := time.Now()
		d, err := c.Start(ctx, false, "top")
		require.NoError(t, err)
		assert.False(t, d.Began.Before(began))
		for ready := map[string]bool{}; len(ready) < 2; {
			s, err := events.Next()
			require.NoError(t, err)
			for _, st := range s.Services {
				if st.State == supervise.Ready {
					ready[st.Name] = true
				}
			}
		}
		s, err := c.Status(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"base", "top"}, []string{s.Services[0].Name, s.Services[1].Name}, "by step")
		logs, err := c.Logs(ctx, LogQuery{Services: []string{"base"}, Events: true, N: 10})
		require.NoError(t, err)
		var seen []string
		for _, e := range logs.Entries {
			seen = append(seen, e.Event+":"+e.Service+":"+e.Level.String())
		}
		assert.Subset(t, seen, []string{":base:", "start:base:info", "ready:base:info"}, "what was printed and what was noted")
		count, err := c.CountLogs(ctx, LogQuery{Patterns: []string{"/^h.*o$/"}}, nil)
		require.NoError(t, err)
		assert.Equal(t, int64(1), count.Entries)
		_, err = c.CountLogs(ctx, LogQuery{Patterns: []string{"/(/"}}, nil)
		assert.ErrorContains(t, err, "not a regular expression")
		_, err = c.Start(ctx, false, "nothing")
		assert.ErrorContains(t, err, `there is no service "nothing"`, "the keeper's own words")
		_, err = c.Logs(ctx, LogQuery{Services: []string{"nothing"}})
		assert.ErrorContains(t, err, "there is no service")
		again, err := c.Restart(ctx, false, false, "base")
		require.NoError(t, err)
		assert.Equal(t, []string{"top"}, again.Told)
		stopped, err := c.Stop(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"base", "top"}, stopped.Services)
		for err == nil {
			_, err = events.Next()
		}
		assert.ErrorIs(t, err, io.EOF, "without a name the keeper ends, and its watchers learn it")
	})
}

func TestAnotherVersion(t *testing.T) {
	c, p := serve(t, two)
	for _, header := range []string{"0", ""} {
		req, err := http.NewRequest(http.MethodGet, "http://keeper/v"+Version+"/status", nil)
		require.NoError(t, err)
		if header != "" {
			req.Header.Set(versionHeader, header)
		}
		resp, err := c.http.Do(req)
		require.NoError(t, err)
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		resp.Body.Close()
		if header == "0" {
			assert.Equal(t, http.StatusConflict, resp.StatusCode)
			assert.Contains(t, string(b), "another version of Neighbour")
		} else {
			assert.Equal(t, http.StatusOK, resp.StatusCode, "a plain HTTP client is welcome")
		}
	}
	resp, err := c.http.Post("http://keeper/v"+Version+"/start", "application/json", strings.NewReader("{broken"))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
	info, err := os.Stat(filepath.Dir(p.Socket()))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

func TestNoKeeper(t *testing.T) {
	c := NewClient(filepath.Join(t.TempDir(), "no.sock"))
	_, err := c.Status(t.Context())
	assert.ErrorIs(t, err, ErrNoKeeper)
}
