package webserver

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What isn't served is found where it is.
func TestExplain(t *testing.T) {
	t.Parallel()
	project := t.TempDir()
	for _, name := range []string{"site/index.html", "site/css/Shed.css", "site/app.js", "site/docs/a.txt", "site/closed.txt", "public/logo.png", "site/dist/bundle.js", "site/dir/closed.txt"} {
		path := filepath.Join(project, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(project, "site/closed.txt"), 0))
	require.NoError(t, os.Chmod(filepath.Join(project, "site/dir"), 0o600))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(project, "site/dir"), 0o700) })
	r := Root{Dir: filepath.Join(project, "site"), Project: project, Indexes: []string{"index.html"}}
	for _, c := range []struct {
		address string
		status  int
		says    string // "": nothing
	}{
		{"/logo.png?v=2", 404, `there is no logo.png in its web root site, and there is one in public: root = "public" would serve it`},
		{"/bundle.js", 404, `root = "site/dist" would serve it`},
		{"/css/shed.css", 404, "site has css/Shed.css: large and small letters are different there"},
		{"/static/app.js", 404, "its web root site has app.js, without static: the address of that file is /app.js"},
		{"/site/app.js", 404, "the address of that file is /app.js"},
		{"/docs/", 403, "site/docs is a folder without index.html"},
		{"/closed.txt", 403, "site/closed.txt is there, and the server may not read it: site/closed.txt has the rights ----------; allow it with: chmod a+r "},
		{"/.env", 404, "never served"},
		{"/.neighbour/x", 403, "never served"},
		{"/%2e%2e/public/logo.png", 404, ""},
		{"/nothing", 404, ""},
		{"/", 404, ""},
		{"/logo.png", 500, ""},
		{"no address", 404, ""},
	} {
		got := r.Explain(c.address, c.status)
		if c.says == "" {
			assert.Empty(t, got, c.address)
		} else {
			assert.Contains(t, got, c.says, c.address)
		}
	}
	if os.Getuid() == 0 { // for others the folder hides its files
		assert.Contains(t, r.Explain("/dir/closed.txt", 403), "site/dir has the rights -rw-------; allow it with: chmod a+x ")
	}
}
