package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDraw(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir, out := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.ledger]\nkind = \"mail\"\n[service.api]\nrun = \"sleep 1\"\nenv.SMTP = \"${ledger.smtp_url}\"\n"), 0o600))
	file := func(name string) string { return filepath.Join(out, name) }
	for _, c := range []struct {
		args []string
		code int
		says string // on either output
		file string
		in   string // the file
	}{
		{[]string{"draw", "map", "-o", file("map.svg")}, 0, "map.svg: 420 × ", "map.svg", ">ledger</text>"},
		{[]string{"draw", "map", "-o", file("MAP.PDF"), "--dark"}, 0, "points", "MAP.PDF", "%PDF-1."},
		{[]string{"draw", "wiring", "-o", file("w"), "--format", "svg"}, 0, "points", "w", ">ledger.smtp_url</text>"},
		{[]string{"draw", "map", "-o", "-"}, 2, `"-" says no format`, "", ""},
		{[]string{"draw", "map", "--format", "svg", "-o", "-"}, 0, ">api</text>", "", ""},
		{[]string{"draw", "map", "-o", file("map.png")}, 2, "end the file's name with .svg or .pdf", "", ""},
		{[]string{"draw", "maps"}, 2, `there is no drawing "maps"; write map, start, usage or wiring`, "", ""},
		{[]string{"draw", "map", "-o", file("none/map.svg")}, 1, "none/map.svg can't be written: no such file or directory", "", ""},
		{[]string{"draw", "start", "-o", file("s.svg")}, 1, "there is no such start in the history", "", ""},
		{[]string{"draw", "start", "--start", "last", "-o", file("s.svg")}, 2, `"last" is not the number of a start`, "", ""},
		{[]string{"draw", "usage", "-o", file("u.svg")}, 1, "nothing runs, so there is no usage to draw", "", ""},
		{[]string{"draw", "map", "--start", "1"}, 2, "--start says nothing about a drawing of the map; it is for: neighbour draw start", "", ""},
		{[]string{"draw", "usage", "--period", "48h", "-o", file("u.svg")}, 2, "--period 48h0m0s: write a length of time from 1m to 24h", "", ""},
	} {
		text, code := carryOut(t, dir, c.args)
		assert.Equal(t, c.code, code, "%v: %s", c.args, text)
		assert.Contains(t, text, c.says)
		if c.file != "" {
			b, err := os.ReadFile(file(c.file))
			require.NoError(t, err)
			assert.Contains(t, string(b), c.in)
		}
	}
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Len(t, left, 3, "what failed leaves nothing")
}
