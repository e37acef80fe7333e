package server

import (
	"log/slog"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/proxy"
)

// wanting returns a project that wants names, each for the service web.
func wanting(dir string, state supervise.State, names ...string) *member {
	m := &member{Registration: control.Registration{Dir: dir, Name: dir[1:]}, cancel: func() {}, targets: map[string]*atomic.Pointer[proxy.Target]{}}
	m.at.Services = []supervise.Status{{Name: "web", State: state, Facts: []supervise.Fact{{Name: "url", Value: "http://127.0.0.1:4100"}}}}
	for _, n := range names {
		m.at.Gate = append(m.at.Gate, project.GateName{Name: n, Service: "web"})
	}
	return m
}

// A name leads to the project that had it first, and to the other when that is gone.
func TestNamesOfSeveralProjects(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	require.NoError(t, project.EnsureGateDir())
	begin := func() *server {
		s := &server{log: slog.New(slog.DiscardHandler), gate: proxy.New(&traffic.Log{}, 443, 80, slog.New(slog.DiscardHandler)), owners: map[string]string{}, were: map[string]string{}, lan: map[string]*lan{}, lanProblems: map[string]string{}, changed: make(chan struct{})}
		return s
	}
	s := begin()
	first, second := wanting("/first", supervise.Ready, "shed.localhost", "web.first.localhost"), wanting("/second", supervise.Starting, "shed.localhost", "*.shed.localhost")
	s.projects = []*member{first}
	s.lead()
	s.projects = append(s.projects, second)
	s.lead()
	has := func(m *member, name string) *proxy.Target {
		if p := m.targets[name]; p != nil {
			return p.Load()
		}
		return nil
	}
	require.NotNil(t, has(first, "shed.localhost"))
	assert.True(t, has(first, "shed.localhost").Ready)
	assert.Equal(t, "127.0.0.1:4100", has(first, "shed.localhost").URL.Host)
	assert.Nil(t, has(second, "shed.localhost"))
	require.NotNil(t, has(second, "*.shed.localhost"))
	assert.False(t, has(second, "*.shed.localhost").Ready, "it is starting")
	assert.Equal(t, []string{"shed.localhost leads to first in /first, which had it first"}, s.problemsOf(second))
	assert.Empty(t, s.problemsOf(first))
	told := s.state()
	require.Len(t, told.Projects, 2)
	assert.Equal(t, "first in /first", told.Projects[1].Names[0].Taken)

	// What a name leads to stays the same thing for whoever holds it, when its state changes.
	before := second.targets["*.shed.localhost"]
	second.at.Services[0].State = supervise.Ready
	s.lead()
	assert.Same(t, before, second.targets["*.shed.localhost"])
	assert.True(t, before.Load().Ready)

	changed := s.changed
	s.leave("/first")
	select {
	case <-changed:
	default:
		t.Error("keepers are not told")
	}
	require.NotNil(t, has(second, "shed.localhost"))
	assert.Empty(t, s.problemsOf(second))
	s.leave("/second")
	assert.False(t, s.empty.IsZero())
	assert.Empty(t, s.owners)
}
