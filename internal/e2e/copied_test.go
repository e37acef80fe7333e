package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/killpoint"
	"neighbour/internal/testkit"
)

// A copied folder shows and touches nothing of the original's, and becomes a project of its own
// with the copied data. A moved one stays the same project.
func TestCopiedProject(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres)
	p := newProject(t, "[service.ledger]\nkind = \"postgres\"\ndatabases = [\"shed\"]\n[service.reviews]\nkind = \"documents\"\n"+program("api", `needs = ["ledger"]`))
	p.must("start")
	p.must("ask", "ledger", "--write", "create table tool as select 'drill' as name")
	before := p.status()
	all := filepath.Join(t.TempDir(), "all")
	if os.Getuid() == 0 {
		require.NoError(t, os.Chmod(filepath.Dir(all), 0o755))
	}
	require.NoError(t, exec.Command("cp", "-a", p.dir, all).Run())
	other := &project{t: t, dir: all}
	t.Cleanup(other.clean)
	for _, command := range []string{"status", "stop", "start", "restart", "check", "logs", "purge"} {
		r := other.run(command)
		assert.Equal(t, 1, r.code, command)
		assert.Contains(t, r.stderr, "is a copy of "+p.dir+"; to have it be a project of its own", command)
	}
	assert.Equal(t, before, p.status(), "nothing of it was touched")
	r := other.run("vouch")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "the data of "+p.dir+" can't be copied while it runs; stop it first: neighbour -C "+p.dir+" stop")
	assert.Equal(t, before, p.status())
	p.must("stop")
	other.must("vouch")
	p.must("start")
	before = p.status()
	assert.Equal(t, "stopped", other.status().Service["api"].State)
	assert.Nil(t, other.status().Keeper)
	other.must("start")
	now := other.status()
	for name, s := range p.status().Service {
		assert.Equal(t, before.Service[name].PID, s.PID)
		assert.NotEqual(t, s.PID, now.Service[name].PID)
		if s.Port != 0 {
			assert.NotEqual(t, s.Port, now.Service[name].Port)
		}
	}
	other.must("ask", "ledger", "--write", "insert into tool values ('saw')")
	assert.Contains(t, other.must("ask", "ledger", "select count(*) from tool"), "2", "it keeps the data")
	assert.Contains(t, p.must("ask", "ledger", "select count(*) from tool"), "1", "which is its own")
	other.must("stop")
	assert.Equal(t, before, p.status())

	p.must("stop")
	was, moved := p.dir, filepath.Join(filepath.Dir(all), "moved")
	require.NoError(t, os.Rename(p.dir, moved))
	p.dir = moved
	p.must("start")
	assert.Contains(t, p.must("ask", "ledger", "select count(*) from tool"), "1")
	assert.NotContains(t, p.must("projects"), was, "nothing is said of the place where it was")
}

// A vouch for a copy that is killed at any step has touched nothing of the original, and can be
// repeated; so can one that found the disk full.
func TestVouchForCopyKilled(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.reviews]\nkind = \"documents\"\n[service.file]\nkind = \"sqlite\"\n")
	p.must("start")
	p.must("ask", "file", "--write", "create table tool as select 'drill' as name")
	p.must("stop")
	for _, point := range []string{"copied state", "own data", "own record", "own identity", "own place"} {
		t.Run(point, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "all")
			if os.Getuid() == 0 {
				require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
			}
			require.NoError(t, exec.Command("cp", "-a", p.dir, dir).Run())
			other := &project{t: t, dir: dir, env: []string{killpoint.Variable + "=" + point}}
			t.Cleanup(other.clean)
			assert.NotZero(t, other.run("vouch").code)
			other.env = nil
			assert.Equal(t, 1, other.run("start").code, "it is a copy still")
			p.must("start")
			assert.Contains(t, p.must("ask", "file", "select * from tool"), "drill")
			p.must("stop")
			other.must("vouch")
			other.must("start")
			other.must("ask", "file", "--write", "insert into tool values ('saw')")
			assert.Contains(t, other.must("ask", "file", "select count(*) from tool"), "2")
			assert.Equal(t, 1, strings.Count(other.must("projects"), dir))
			other.must("purge", "--yes")
			assert.NotContains(t, p.must("projects"), dir)
			p.must("start")
			assert.Contains(t, p.must("ask", "file", "select count(*) from tool"), "1")
			p.must("stop")
		})
	}
}
