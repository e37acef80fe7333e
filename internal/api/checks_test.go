package api

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/testkit"
)

// What the keeper finds, and what it does about it, and only about that.
func TestChecksAndRemedies(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	c, p := serve(t, fmt.Sprintf("[service.api]\nrun = \"sleep 1000\"\nport = %d\nwrites = [\"up\"]\nenv.A = \"${api.port}\"\n", port))
	ctx := t.Context()
	all, err := c.Checks(ctx)
	require.NoError(t, err)
	find := func(id string) check.Finding {
		i := slices.IndexFunc(all, func(f check.Finding) bool { return f.ID == id })
		require.GreaterOrEqual(t, i, 0, id)
		return all[i]
	}
	held := find("port/api")
	assert.Contains(t, held.What, fmt.Sprintf("pid %d", os.Getpid()))
	var does []string
	for _, a := range held.Actions {
		does = append(does, a.Do)
	}
	assert.Equal(t, []string{check.UsePort, check.DeclarePort, check.LocalPort, check.EndHolder, check.AdoptOutside}, does)

	// Something like what was confirmed is not done.
	other := held.Actions[3]
	other.Process.Start = "another"
	_, err = c.Remedy(ctx, held.ID, other)
	assert.ErrorContains(t, err, "things have changed meanwhile, so nothing was done")
	_, err = c.Remedy(ctx, "port/gone", other)
	assert.ErrorContains(t, err, "that is no longer so; nothing was done")

	says, err := c.Remedy(ctx, held.ID, held.Actions[0])
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("api has port %d until everything is stopped", held.Actions[0].Port), says)
	folder := find("writes[0]/api")
	says, err = c.Remedy(ctx, folder.ID, folder.Actions[0])
	require.NoError(t, err)
	assert.Contains(t, says, "done: mkdir -p")
	assert.DirExists(t, filepath.Join(p.Dir, "up"))

	w, err := c.Wiring(ctx)
	require.NoError(t, err)
	require.Len(t, w.Ports, 1)
	assert.Equal(t, held.Actions[0].Port, w.Ports[0].Port)
	assert.False(t, w.Ports[0].Conflict)
	require.Len(t, w.Variables, 2)
	assert.Equal(t, fmt.Sprint(held.Actions[0].Port), w.Variables[0].Value)

	impact, err := c.Impact(ctx, "api")
	require.NoError(t, err)
	assert.Empty(t, impact.Needs)
	_, err = c.Impact(ctx, "nobody")
	assert.ErrorContains(t, err, `there is no service "nobody"`)
	effects, err := c.Changes(ctx)
	require.NoError(t, err)
	require.Len(t, effects, 1)
	assert.Equal(t, "rest", effects[0].Does)

	kinds, err := c.Kinds(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(kinds, func(k project.Available) bool { return k.Name == "program" })
	assert.Equal(t, `run = "npm start"`, kinds[i].Begin)
	require.NoError(t, c.Edit(ctx, project.Change{Service: "more", Add: &project.NewService{Kind: "static", Line: `root = "."`}}))
	hello, err := c.Hello(ctx)
	require.NoError(t, err)
	assert.True(t, hello.Stale)
	assert.ErrorContains(t, c.Edit(ctx, project.Change{Service: "nobody", Remove: true}), `the declaration has no service "nobody"`)
}

// A service that failed for what a remedy mends starts by itself.
func TestRemedyStarts(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	c, _ := serve(t, fmt.Sprintf("[service.api]\nrun = \"sleep 1000\"\nport = %d\nhealth = { run = \"true\" }\n", l.Addr().(*net.TCPAddr).Port))
	state := func() supervise.State {
		s, err := c.Status(t.Context())
		require.NoError(t, err)
		return s.Services[0].State
	}
	_, err = c.Start(t.Context(), false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return state() == supervise.Failed }, testkit.Patience, 10*time.Millisecond)
	all, err := c.Checks(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(f check.Finding) bool { return f.ID == "port/api" })
	require.GreaterOrEqual(t, i, 0)
	says, err := c.Remedy(t.Context(), all[i].ID, all[i].Actions[0])
	require.NoError(t, err)
	assert.Regexp(t, `^api has port \d+ until everything is stopped; api starts$`, says)
	require.Eventually(t, func() bool { return state() == supervise.Ready }, testkit.Patience, 10*time.Millisecond)
}
