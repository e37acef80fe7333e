package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// A program whose packages are not installed is told so, and one key adds the preparation that
// installs them.
func TestPackagesThatAreMissing(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "node", "nodejs")
	testkit.Need(t, "npm")
	testkit.Need(t, "python3")
	for name, c := range map[string]struct {
		files       map[string]string
		run         string
		told, entry string
	}{
		"node": {map[string]string{
			"package.json":       `{"name": "app", "version": "1.0.0", "dependencies": {"drill": "file:./drill"}}`,
			"drill/package.json": `{"name": "drill", "version": "1.0.0"}`,
			"drill/index.js":     `module.exports = "a drill"`,
			"app.js":             `console.log("here is", require("drill")); setInterval(() => {}, 1000)`,
		}, "node app.js", `its packages are not installed: there is no node_modules in`,
			`prepare = [{ run = "npm ci", when = ["package-lock.json"], makes = ["node_modules"] }]`},
		"python": {map[string]string{
			"requirements.txt": "shed_of_tools\n",
			"app.py":           "import shed_of_tools\n",
		}, "python3 app.py", `its packages are not installed: it said that there is no module shed_of_tools`,
			`prepare = [{ run = "python3 -m venv .venv && .venv/bin/pip install -r requirements.txt", when = ["requirements.txt"], makes = [".venv"] }]`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newProject(t, "[service.app]\nrun = \""+c.run+"\"\nhealth = { log = \"here is\" }\n") // it is not ready without its packages
			p.env = []string{"PIP_NO_INDEX=1"}                                                         // no network is asked
			for file, text := range c.files {
				p.write(file, text)
			}
			if name == "node" { // its lock file, without anything that is installed
				npm := exec.Command("npm", "install", "--package-lock-only", "--offline", "--no-audit")
				npm.Dir = p.dir
				out, err := npm.CombinedOutput()
				require.NoError(t, err, string(out))
			}
			r := p.run("start")
			assert.Equal(t, 1, r.code)
			s := openWith(t, p.env, p.dir, 142, 38)
			s.press("7")
			s.see(c.told)
			s.see(`a +prepare by`)
			s.press("a")
			s.gone(c.told)
			text, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
			require.NoError(t, err)
			assert.Contains(t, string(text), c.entry)
			if name == "python" { // what one part of the line makes is not missing before
				assert.NotContains(t, p.run("start").stderr, "there is no program")
			} else {
				p.must("start")
				s.press("1", "Enter")
				s.see("here is a drill")
			}
		})
	}
}
