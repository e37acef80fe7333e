package input

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(path("file"), []byte("text"), 0o600))
	require.NoError(t, os.Symlink("file", path("link")))
	require.NoError(t, syscall.Mkfifo(path("pipe"), 0o600))
	require.NoError(t, os.WriteFile(path("large"), make([]byte, Limit+1), 0o600))
	for name, says := range map[string]string{"file": "", "link": "", "pipe": "is no regular file", "/dev/zero": "is no regular file", ".": "is a folder", "large": "has more than 1 MB"} {
		p := path(name)
		if filepath.IsAbs(name) {
			p = name
		}
		b, err := Read(p)
		if says == "" {
			require.NoError(t, err, name)
			assert.Equal(t, "text", string(b))
		} else {
			assert.ErrorContains(t, err, says, name)
		}
	}
	_, err := Read(path("none"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
}
