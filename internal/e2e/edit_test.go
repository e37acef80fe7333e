package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The declaration is changed on the screen: a port, a new service, one that
// goes; what the file says otherwise stays, and what would be wrong is
// refused with the place.
func TestEditsOnTheScreen(t *testing.T) {
	t.Parallel()
	const declared = `# ours
[service.api]     # the app
run = "sleep 1000"
port = 18100      # fixed
health = { run = "true" }

# files
[service.page]
kind = "static"
root = "."
`
	p := newProject(t, declared)
	file := func() string {
		b, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
		require.NoError(t, err)
		return string(b)
	}
	s := open(t, p.dir, 100, 30)
	s.see("0 of 2 ready")
	s.press("e")
	s.see(`port +18100`)
	s.press("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "9", "9", "9", "9", "9", "Enter")
	s.see(`"99999" is not a port`)
	s.press("BSpace", "Enter")
	s.see("api is changed in neighbour.toml")
	s.see(`:9999 `)
	assert.Contains(t, file(), "port = 9999      # fixed\nhealth")

	s.press("n")
	s.see("Add a service")
	s.press("s", "s", "t") // static: it begins with its letter, then by turns
	for range 3 {
		s.press("Tab")
	}
	s.press("r", "Tab", "1", "x", "Enter")
	text := s.see(`(?s)service\.1x: "1x" can't be a service's name`)
	assert.Contains(t, text, "neighbour.toml:", "with its place")
	s.press("Home", "s", "Enter")
	s.see("0 of 3 ready")
	s.see(`── s1x Redis`)
	assert.Contains(t, file(), "root = \".\"\n\n[service.s1x]\nkind = \"redis\"\n")

	s.press("x")
	s.see("Remove s1x")
	s.press("Enter")
	s.see("0 of 2 ready")
	assert.Equal(t, len(declared)-len("1"), len(file()), "only the port is shorter")
	s.press("s")
	s.see(`Start for the first time\?`)
	s.press("Enter")
	s.see("1 of 2 ready")
	s.press("x")
	s.see("stop it first")
	s.press("Tab", "x", "Enter")
	s.see("1 of 1 ready") // it touches nothing that runs, so it counts at once
	assert.NotContains(t, file(), "# files")
	assert.Contains(t, file(), "# the app")
}
