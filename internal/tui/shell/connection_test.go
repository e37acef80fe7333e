package shell

import (
	"errors"
	"net"
	"net/http"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/tui/view"
)

// A keeper that goes while it was asked to let another take its place is looked for again, whichever
// of the two is noticed first.
func TestKeeperReplacedMeanwhile(t *testing.T) {
	t.Parallel()
	for _, cutFirst := range []bool{true, false} {
		socket := filepath.Join(t.TempDir(), "s")
		l, err := net.Listen("unix", socket)
		require.NoError(t, err)
		keeper := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Neighbour-Api", r.Header.Get("Neighbour-Api"))
			w.Header().Set("Content-Type", "text/event-stream")
		})} // whose events end at once
		go func() { _ = keeper.Serve(l) }()
		t.Cleanup(func() { keeper.Close() })
		m := New(t.Context(), Options{Views: []view.Spec{{ID: "map", New: func(*view.Env, any) (view.View, tea.Cmd) { return nil, nil }}}})
		m.refreshing = true
		events, err := api.NewClient(socket).Events(t.Context())
		require.NoError(t, err)
		_, ended := events.Next()
		require.Error(t, ended)
		if cutFirst {
			assert.Nil(t, m.event(eventMsg{events, api.Snapshot{}, ended}), "the other is awaited")
			assert.NotNil(t, m.stays(errors.New("there is none")))
		} else {
			assert.Nil(t, m.stays(errors.New("there is none")))
			assert.NotNil(t, m.event(eventMsg{events, api.Snapshot{}, ended}))
		}
		assert.True(t, m.state.Lost)
	}
}
