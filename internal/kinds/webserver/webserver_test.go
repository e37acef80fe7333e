package webserver

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

func TestRoot(t *testing.T) {
	project := t.TempDir()
	for path, text := range map[string]string{"app/public/index.html": "x", "app/composer.json": "{}", "site/index.php": "x", "assets/a.css": "x", "index.html": "x", ".env": "A=1", ".git/index.html": "x"} {
		full := filepath.Join(project, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	html, php := []string{"index.html"}, []string{"index.php", "index.html"}
	for _, c := range []struct {
		dir         string
		indexes     []string
		front, more bool
		says, warns string
	}{
		{"app/public", html, false, false, "", ""},
		{"app", html, false, false, `no index.html, and public in it has: served from above, all files of the app could be fetched; write root = "app/public"`, ""},
		{"app", php, true, false, `write root = "app/public"`, ""},
		{"site", php, true, false, "", ""},
		{"site", html, false, false, "", "has no index.html, so its address shows no page"},
		{"assets", php, true, false, "which would answer for every address", ""},
		{"assets", html, false, true, "", ""},
		{"gone", html, false, false, `doesn't exist; create it, or correct root = "gone"`, ""},
		{".", html, false, false, "", "holds what must not be served: .env, .git; "},
		{".git", html, false, false, "is in a folder that is never served", ""},
		{"app/public", html, false, false, "", ""},
	} {
		r := Root{Dir: filepath.Join(project, c.dir), Project: project, Indexes: c.indexes, Front: c.front, Other: c.more}
		err := r.Check()
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.dir)
			assert.Equal(t, c.dir == "gone", kind.MayBeMade(err))
			continue
		}
		require.NoError(t, err, c.dir)
		warns := strings.Join(r.Warn(), "; ")
		if c.warns == "" {
			assert.Empty(t, warns, c.dir)
		} else {
			assert.Contains(t, warns, c.warns, c.dir)
		}
	}
}

// A refusal of a line of extra is told with that line of the declaration,
// however the text is written; one of what is generated is not.
func TestRefused(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		lines := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,8} (on|off);`), 1, 6).Draw(r, "extra")
		many := rapid.Bool().Draw(r, "several lines")
		if !many {
			lines = lines[:1]
		}
		extra := strings.Join(lines, "\n")
		toml := "[service.a]\nkind = \"nginx\"\nroot = \".\"\nextra = " + fmt.Sprintf("%q", extra) + "\n"
		first := 4
		if many {
			toml = "[service.a]\nkind = \"nginx\"\nroot = \".\"\nextra = \"\"\"\n" + extra + "\"\"\"\n"
			first = 5
		}
		d, err := declare.Parse([]byte(toml), "neighbour.toml", one{})
		require.NoError(r, err)
		word := d.Services[0].Settings.(*Settings).Extra
		before := strings.Repeat("generated;\n", rapid.IntRange(0, 5).Draw(r, "before"))
		at := rapid.IntRange(0, len(lines)-1).Draw(r, "line")
		config := before + "# extra\n" + extra + "\n}\n"
		wrong := strings.Count(before, "\n") + 2 + at
		said := rapid.SampledFrom([]string{"nginx: [emerg] unknown directive in /run/server.conf:%d", "AH00526: Syntax error on line %d of /run/server.conf:\nInvalid"}).Draw(r, "said")
		var refusal *kind.RefusedError
		require.True(r, errors.As(refused(config, fmt.Sprintf(said, wrong), word), &refusal))
		require.Equal(r, lines[at], refusal.Text)
		require.Equal(r, first+at, refusal.At.Line)
		require.False(r, errors.As(refused(config, fmt.Sprintf(said, 1), word), &refusal))
		require.False(r, errors.As(refused(config, "out of memory", word), &refusal))
	})
}

// one is a catalogue of web servers only.
type one struct{}

func (one) Kinds() []string { return []string{"nginx"} }
func (one) Describe(string) (declare.KindInfo, bool) {
	return declare.KindInfo{Settings: func() any { return &Settings{} }}, true
}
