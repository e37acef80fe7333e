package kind

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
)

// Of what this system has, the newest version that will do is named.
func TestSeries(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"apt-get": "", "apt-cache": `case $3 in server-14 | server-15 | server-16) echo "Package: $3" ;; esac`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+text+"\n"), 0o755))
	}
	t.Setenv("PATH", dir)
	s := Series{"server-%s", []string{"17", "16", "15", "14"}}
	for text, want := range map[string]string{"16": "server-16", "17": "", ">=14, <16": "server-15", ">=15.2": "server-16", "<14": ""} {
		var c declare.Constraint
		require.NoError(t, c.UnmarshalText([]byte(text)))
		assert.Equal(t, want, s.For(c.Allows).Debian, text)
	}
	err := error(&VersionError{errors.New("none will do"), Packages{Debian: "server-15"}})
	assert.Contains(t, err.Error(), "none will do; ")
	assert.Contains(t, err.Error(), "server-15")
	t.Setenv("PATH", t.TempDir())
	assert.Empty(t, s.For(func(string) bool { return true }))
}
