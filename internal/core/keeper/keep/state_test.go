package keep

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// Whatever is in the state file, it is read or refused, and no process is
// taken for a service's that isn't.
func FuzzState(f *testing.F) {
	whole, err := json.Marshal(Saved{Services: map[string]SavedService{"api": {Status: supervise.Status{Name: "api", State: supervise.Ready, Tries: []supervise.Try{{Reason: "exit 3"}}}}}})
	require.NoError(f, err)
	for _, s := range []string{string(whole), "{}", "{half", `{"services":{"api":{"process":{"pid":1,"start":"x"},"status":{"state":"odd","since":"never"}}}}`, "null", `{"services":null,"keeper":{"pid":-1}}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		t.Setenv("XDG_STATE_HOME", t.TempDir())
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.api]\nrun = \"sleep 1\"\n"), 0o600))
		p, err := project.Open(dir)
		require.NoError(t, err)
		require.NoError(t, p.EnsureDirs())
		require.NoError(t, os.WriteFile(p.StateFile(), b, 0o600))
		s, err := ReadState(p)
		if err != nil {
			return
		}
		for _, service := range s.Services {
			assert.False(t, service.ID.Alive(), "no process of this machine has such a start")
			_ = service.Status.Sentence(time.Now())
		}
		_ = s.orphaned()
		rest := Rest(p)
		require.Len(t, rest, 1)
		assert.Contains(t, []supervise.State{supervise.Stopped, supervise.Failed, supervise.Finished}, rest[0].State)
	})
}
