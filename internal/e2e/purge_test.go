package e2e

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// folderOf lists all that is below some folders.
func folderOf(t *testing.T, roots ...string) []string {
	t.Helper()
	var out []string
	for _, root := range roots {
		require.NoError(t, filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
			if os.IsNotExist(err) {
				return nil
			}
			out = append(out, path)
			return err
		}))
	}
	sort.Strings(out)
	return out
}

// After a purge there is nothing that was not there before the first start, of the project in its
// folder, of all projects anywhere.
func TestPurge(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	home := t.TempDir()
	// Its path must be short, or sockets would be where those of other tests are.
	run, err := os.MkdirTemp("/tmp", "run")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(run) })
	env := []string{"HOME=" + home, "XDG_STATE_HOME=" + filepath.Join(home, "state"), "XDG_CACHE_HOME=" + filepath.Join(home, ".cache"), "XDG_RUNTIME_DIR=" + run, "NEIGHBOUR_GATE=on"}
	for _, dir := range []string{".cache", ".config", "state"} {
		require.NoError(t, os.Mkdir(filepath.Join(home, dir), 0o700))
	}
	const declaration = "[service.shelf]\nkind = \"redis\"\n[service.file]\nkind = \"sqlite\"\nfile = \"app.db\"\nmigrations = \"db\"\n[service.site]\nkind = \"static\"\nroot = \"site\"\n"
	purged, other := newProject(t, declaration), newProject(t, declaration)
	for _, p := range []*project{purged, other} {
		p.env = env
		p.write("db/1-loans.sql", "create table loans (id integer primary key);")
		p.write("site/index.html", "of the shed")
		p.write("mine.txt", "of the user")
	}
	before, all := folderOf(t, purged.dir), folderOf(t, purged.dir, other.dir, home, run)
	for _, p := range []*project{purged, other} {
		p.must("start")
		p.must("snapshot", "save", "one")
		p.must("login", "on", "--yes")
		p.must("run", "--keep", "mine", "--with", "shelf", "--", "true")
	}
	require.NotEqual(t, before, folderOf(t, purged.dir))
	refused := purged.run("purge")
	assert.NotEqual(t, 0, refused.code)
	for _, what := range []string{"the data of shelf", "the data of file", "snapshots", "fresh copies", "logs", "what is remembered of it"} {
		assert.Contains(t, refused.stdout, what)
	}
	assert.Equal(t, "ready", purged.status().Service["shelf"].State, "nobody has said yes")
	assert.Contains(t, purged.run("--copy", "mine", "purge").stderr, "mine is a copy, of which nothing stays")

	purged.must("purge", "--yes")
	assert.Equal(t, before, folderOf(t, purged.dir))
	assert.Empty(t, purged.left())
	assert.Contains(t, purged.run("purge", "--yes").stderr, "nothing was made for it")
	assert.Equal(t, "ready", other.status().Service["shelf"].State, "another is left alone")
	assert.NotContains(t, other.must("projects"), purged.dir)

	purged.must("start", "shelf")
	require.NoError(t, os.WriteFile(filepath.Join(other.dir, "neighbour.toml"), []byte("[service"), 0o600)) // also so
	other.must("purge", "--all", "--yes")
	other.write("neighbour.toml", declaration)
	left := folderOf(t, purged.dir, other.dir, home, run)
	// Where the declaration can't be read nobody knows of a file beside it.
	left = slices.DeleteFunc(left, func(path string) bool { return strings.HasPrefix(path, filepath.Join(other.dir, "app.db")) })
	assert.Equal(t, all, left)
}

// What starts wrote into the project's own files goes with a purge, and what is somebody else's
// there stays.
func TestPurgeOfEnvFile(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api", "port = \"any\"", "health = { run = \"true\" }"))
	p.must("start")
	p.write("neighbour.toml", program("api", "port = \"any\"", "health = { run = \"true\" }")+"[env]\nwrite = \".env.local\"\nkeys = { API = \"${api.port}\" }\n")
	p.write(".env.local", "OWN=1\n")
	p.write("neighbour.local.toml", "")
	p.must("apply")
	p.eventually(func(status) bool {
		b, _ := os.ReadFile(filepath.Join(p.dir, ".env.local"))
		return strings.Contains(string(b), "\nAPI=")
	})
	require.NoError(t, exec.Command("git", "init", "-q", p.dir).Run())
	assert.Contains(t, p.run("check").stdout, "git does not ignore .env.local")
	p.write(".gitignore", ".env.local\n")
	assert.NotContains(t, p.run("check").stdout, "git does not ignore")
	assert.Contains(t, p.must("purge", "--yes"), ".env.local")
	p.holds(".env.local", "OWN=1\n")
	assert.FileExists(t, filepath.Join(p.dir, "neighbour.local.toml"))
}
