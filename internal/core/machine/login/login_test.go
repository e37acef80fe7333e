package login

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An entry counts when it is written, and leaves nothing when it is removed.
func TestEntry(t *testing.T) {
	config := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	t.Setenv("HOME", config)
	dir, program := `/home/ines/50% off "tools" $now`, "/opt/new bin/neighbour"
	for _, system := range []string{"linux", "darwin"} {
		e, err := of(system, "Tool Shed", dir, program, []string{"PATH=/usr/bin:/home/ines/my bin"})
		require.NoError(t, err)
		assert.False(t, e.On())
		require.NoError(t, e.Write())
		require.NoError(t, e.Write(), "again")
		assert.True(t, e.On())
		assert.True(t, e.Current())
		other, err := of(system, "Tool Shed", "/home/ines/other", program, nil)
		require.NoError(t, err)
		assert.False(t, other.On(), "another folder is another project")
		assert.NotEqual(t, e.Path, other.Path)
		b, err := os.ReadFile(e.Path)
		require.NoError(t, err)
		if system == "linux" {
			assert.Contains(t, string(b), `ExecStart="/opt/new bin/neighbour" -C "/home/ines/50%% off \"tools\" $$now" start`)
			assert.Contains(t, string(b), `ExecStop="/opt/new bin/neighbour" -C `)
			assert.Contains(t, string(b), `Environment="PATH=/usr/bin:/home/ines/my bin"`)
		} else {
			assert.Contains(t, string(b), "<string>/home/ines/50% off &#34;tools&#34; $now</string>")
			assert.Contains(t, string(b), "<key>PATH</key><string>/usr/bin:/home/ines/my bin</string>")
		}
		require.NoError(t, e.Remove())
		require.NoError(t, e.Remove(), "again")
		assert.False(t, e.On())
	}
	left, err := filepath.Glob(filepath.Join(config, "systemd"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = of("linux", "x", "/home/ines/two\nlines", program, nil)
	assert.ErrorContains(t, err, "line break")
}
