package demo

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
	"neighbour/internal/testkit"
)

// The demo's declarations are correct, with a script for each program.
func TestWrite(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for trouble, services := range map[bool]int{false: 13, true: 21} {
		dir, err := Write(trouble, "/where it's/neighbour")
		require.NoError(t, err)
		p, err := project.Open(dir)
		require.NoError(t, err)
		assert.Len(t, p.Services, services)
		b, err := os.ReadFile(filepath.Join(dir, "bin", "api"))
		require.NoError(t, err)
		assert.Equal(t, "#!/bin/sh\nexec '/where it'\\''s/neighbour' toolshed api\n", string(b))
		_, err = Write(trouble, "/elsewhere")
		require.NoError(t, err, "a second time is no trouble")
		require.NoError(t, Remove(trouble))
		assert.NoDirExists(t, filepath.Dir(dir))
	}
	// A link that somebody else put there is not followed.
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Dir(Dir(false))))
	_, err := Write(false, "x")
	assert.ErrorContains(t, err, "belongs to somebody else")
}

func TestProgramsStopWhenAsked(t *testing.T) {
	assert.ErrorContains(t, RunProgram(t.Context(), "lathe"), `no program "lathe"`)
	t.Setenv("LEDGER_FILE", filepath.Join(t.TempDir(), "loans.json"))
	for _, name := range []string{"ledger", "shelf", "api", "web", "scales"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		_, port, _ := net.SplitHostPort(l.Addr().String())
		l.Close()
		t.Setenv("PORT", port)
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- RunProgram(ctx, name) }()
		require.Eventually(t, func() bool {
			conn, err := net.Dial("tcp", "127.0.0.1:"+port)
			if err == nil {
				conn.Close()
			}
			return err == nil
		}, testkit.Patience, 10*time.Millisecond, name)
		cancel()
		select {
		case err := <-ended:
			assert.NoError(t, err, name)
		case <-time.After(testkit.Patience):
			t.Fatalf("%s does not end", name)
		}
	}
}
