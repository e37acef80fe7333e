package browser

import (
	"neighbour/internal/testkit"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpen(t *testing.T) {
	dir := t.TempDir()
	out := filepath.Join(dir, "out")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "look"), []byte("#!/bin/sh\necho \"$*\" > '"+out+".new' && mv '"+out+".new' '"+out+"'\n"), 0o755))
	t.Setenv("PATH", dir+":/usr/bin:/bin")
	for browser, want := range map[string]string{"look": "http://127.0.0.1:4100/\n", "missing:look --page": "--page http://127.0.0.1:4100/\n", "look --at=%s here": "--at=http://127.0.0.1:4100/ here\n"} {
		t.Setenv("BROWSER", browser)
		os.Remove(out)
		require.NoError(t, Open("http://127.0.0.1:4100/"))
		require.Eventually(t, func() bool { _, err := os.Stat(out); return err == nil }, testkit.Patience, 10*time.Millisecond)
		b, err := os.ReadFile(out)
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	t.Setenv("BROWSER", "")
	t.Setenv("PATH", dir)
	assert.ErrorContains(t, Open("http://127.0.0.1:4100/"), "open it yourself: http://127.0.0.1:4100/")
	assert.ErrorContains(t, Open("postgres://x"), "is no address of a web page")
}
