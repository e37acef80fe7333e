package api

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// full takes some bytes of each write, as a disk that is about to be full.
type full struct {
	room int
	got  []byte
}

func (f *full) Write(b []byte) (int, error) {
	n := min(len(b), f.room)
	f.room -= n
	f.got = append(f.got, b[:n]...)
	if n < len(b) {
		return n, errors.New("no space left on device")
	}
	return n, nil
}

// A line that was cut is ended before the next one, also by the next process.
func TestLines(t *testing.T) {
	disk := &full{room: 8}
	l := &lines{to: disk}
	for _, text := range []string{"{one}\n", "{two}\n", "{three}\n"} {
		_, _ = l.Write([]byte(text))
	}
	disk.room = 100
	for _, text := range []string{"{four}\n", "{five}\n"} {
		_, err := l.Write([]byte(text))
		require.NoError(t, err)
	}
	assert.Equal(t, "{one}\n{t\n{four}\n{five}\n", string(disk.got))

	path := filepath.Join(t.TempDir(), "keeper.jsonl")
	assert.False(t, cut(path))
	for text, is := range map[string]bool{"": false, "{one}\n": false, "{one}\n{t": true} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		assert.Equal(t, is, cut(path), text)
	}
}
