package logs

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
	_ "neighbour/internal/kinds/catalogue"
	"neighbour/internal/tui/view/viewtest"
)

// withKeeper is the view on what is in the logs of a project, answered by
// a real keeper with which nothing runs.
func withKeeper(t *testing.T, logs map[string]string) *opening {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	declaration := ""
	var services []api.Status
	for _, name := range []string{"api", "ledger", "web"} {
		declaration += fmt.Sprintf("[service.%s]\nrun = \"sleep 1000\"\n", name)
		services = append(services, api.Status{Name: name, State: supervise.Ready, Step: 1})
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(declaration), 0o600))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	at := time.Now()
	for name, text := range logs {
		require.NoError(t, os.WriteFile(p.LogFile(name), []byte(text), 0o600))
		require.NoError(t, os.Chtimes(p.LogFile(name), at, at)) // at the same time they are in the order of their names
	}
	log := slog.New(slog.DiscardHandler)
	ctx, cancel := context.WithCancel(context.Background())
	k := keep.New(ctx, p, log)
	l, err := net.Listen("unix", p.Socket())
	require.NoError(t, err)
	served, adopted, ran := make(chan error, 1), make(chan struct{}), make(chan error, 1)
	go func() { served <- api.NewServer(k, cancel, log).Serve(ctx, l) }()
	go func() { ran <- k.Run(adopted) }()
	<-adopted // what is in the logs has a time by now
	client := api.NewClient(p.Socket())
	e, host := viewtest.Env(client, 120, 24, services...)
	e.Overview.Dir, e.Overview.Project = dir, "toolshed"
	m := &opening{v: newLogs(e, ""), host: host}
	m.v.Fit(120, 21)
	m.settle(m.v.anew())
	t.Cleanup(func() {
		client.Close()
		cancel()
		assert.NoError(t, <-served)
		assert.NoError(t, <-ran)
	})
	return m
}

// do presses keys and lets everything come to rest that follows from them.
func do(m *opening, keys ...string) {
	for _, k := range keys {
		m.settle(m.press(k))
	}
}

func typedKeys(text string) []string { return append(strings.Split(text, ""), "enter") }

func TestLogsWithAKeeper(t *testing.T) {
	var b strings.Builder
	for i := range 3000 {
		level := "info"
		if i%1000 == 500 {
			level = "error"
		}
		fmt.Fprintf(&b, "level=%s msg=\"lent tool %04d\" to=oda\n", level, i)
	}
	m := withKeeper(t, map[string]string{"api": b.String(), "web": "GET /\nwarn: slow\n"})
	v := m.v
	assert.Contains(t, m.text(), "slow")
	assert.True(t, v.newest)
	assert.False(t, v.first)

	do(m, "e")
	assert.Equal(t, "lent tool 2500", v.entries[v.cursor].Message, "the last error")
	do(m, "e", "e")
	assert.Equal(t, "lent tool 0500", v.entries[v.cursor].Message)
	do(m, "e")
	assert.Contains(t, m.host.Said, "there is none")
	assert.Equal(t, "lent tool 0500", v.entries[v.cursor].Message, "and the selection stays")
	do(m, "E")
	assert.Equal(t, "lent tool 1500", v.entries[v.cursor].Message)

	do(m, append([]string{"/"}, typedKeys("TOOL 17")...)...)
	assert.Contains(t, m.text(), "search TOOL 17  0 entries", "large letters are meant")
	do(m, "esc")
	assert.Empty(t, v.search)
	do(m, append([]string{"/"}, typedKeys("tool 17")...)...)
	assert.Equal(t, "lent tool 1700", v.entries[v.cursor].Message, "none is before, so the first after")
	assert.Contains(t, m.text(), "1 of 100")
	do(m, "n", "n", "N")
	assert.Equal(t, "lent tool 1701", v.entries[v.cursor].Message)
	assert.Contains(t, m.text(), "2 of 100")

	do(m, append([]string{"f"}, typedKeys("/tool 1.99/")...)...)
	assert.Equal(t, 10, len(v.entries))
	do(m, "s")
	v.prompt.input.SetValue("saved.log")
	do(m, "enter")
	saved, err := os.ReadFile(filepath.Join(v.Overview.Dir, "saved.log"))
	require.NoError(t, err)
	assert.Equal(t, 10, strings.Count(string(saved), "\n"), "what is shown")
	assert.Regexp(t, `^2\d{3}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}  api  level=info msg="lent tool 1099" to=oda\n`, string(saved))
	do(m, "s")
	v.prompt.input.SetValue("saved.log")
	do(m, "enter")
	assert.Contains(t, m.text(), "is there already; write another name")
	do(m, "esc", "a", "home")
	assert.Equal(t, "lent tool 0000", v.entries[0].Message)
	do(m, "tab")
	assert.Equal(t, []string{"api"}, v.services)
	do(m, "tab", "tab")
	assert.Equal(t, []string{"web"}, v.services)
	assert.Len(t, v.entries, 2)
	do(m, "l", "l")
	assert.Equal(t, journal.Warn, v.level)
	assert.Len(t, v.entries, 1)
	do(m, "a", "p", "space")
	assert.ElementsMatch(t, []string{"ledger", "web"}, v.services, "all but the one that was taken out")
	do(m, "o", "enter")
	assert.Equal(t, []string{"api"}, v.services)
	v.following = true
	do(m, append([]string{"g"}, typedKeys("1h")...)...)
	assert.Equal(t, "lent tool 0000", v.entries[v.cursor].Message, "all of it is younger")
	assert.False(t, v.following)
	assert.WithinDuration(t, time.Now(), v.entries[v.cursor].At, time.Minute)
}
