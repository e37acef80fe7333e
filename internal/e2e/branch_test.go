package e2e

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/keeper/keep"
)

// git runs git in a project's folder.
func (p *project) git(args ...string) {
	p.t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=Ines Brandt", "-c", "user.email=ines@example.org", "-c", "init.defaultBranch=main"}, args...)...)
	cmd.Dir = p.dir
	out, err := cmd.CombinedOutput()
	require.NoError(p.t, err, string(out))
}

// branches returns of which branch the data is, and what is kept for others.
func (p *project) branches() (b keep.BranchData) {
	p.t.Helper()
	require.NoError(p.t, json.Unmarshal([]byte(p.must("snapshot", "branch", "--json")), &b))
	return b
}

// refuses carries out a command that must fail, and returns what it says.
func (p *project) refuses(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	assert.Equal(p.t, 1, r.code, "%v: %s", args, r.stdout)
	return r.stderr
}

const branched = "[service.file]\nkind = \"sqlite\"\nfile = \"app.db\"\n[service.reviews]\nkind = \"documents\"\n"

// newBranched returns a running project in a git repository, with functions that write into each
// of its services and that count what all of them have.
func newBranched(t *testing.T, snapshots string) (p *project, write func(from, to int), count func() int) {
	p = newProject(t, snapshots+branched)
	p.write(".gitignore", ".neighbour\napp.db*\n")
	p.git("init", "-q")
	p.git("add", ".")
	p.git("commit", "-qm", "begin")
	p.must("start")
	names := []string{"file", "reviews"}
	write = func(from, to int) {
		t.Helper()
		for _, name := range names {
			put, _ := holders[name].open(t, p.status().Service[name])
			for n := from; n <= to; n++ {
				require.NoError(t, put(n))
			}
		}
	}
	count = func() int {
		t.Helper()
		all := map[int]bool{}
		n := 0
		for _, name := range names {
			_, counted := holders[name].open(t, p.status().Service[name])
			n = counted()
			all[n] = true
		}
		require.Len(t, all, 1, "the data of all services is of one branch")
		return n
	}
	return p, write, count
}

// Each git branch has its own data: a new one gets a copy of that of the branch that it was come
// to from, and each has what it was left with when it is checked out again.
func TestDataOfBranches(t *testing.T) {
	t.Parallel()
	p, write, count := newBranched(t, "[snapshots]\non = { branch = true }\n")
	write(1, 10)
	p.git("checkout", "-qb", "feature/ladders")
	r := p.run("check")
	assert.Contains(t, r.stdout, "the branch feature/ladders is checked out, and the data is that of main")
	s := open(t, p.dir, 142, 38)
	s.see(`▲ the branch feature/ladders is checked out, and the data is that of main; 7 checks can switch it`)
	s.press("7")
	s.see(`switch the data: keep the data of main aside, and give feature/ladders a copy`)
	s.press("a")
	s.see(`Switch the data\?`)
	s.press("Enter")
	s.gone(`is checked out, and the data is that of main`)
	s.press("q")
	assert.Equal(t, 10, count(), "it is a copy")
	write(11, 15)
	b := p.branches()
	assert.Equal(t, "feature/ladders", b.Data)
	require.Len(t, b.Sets, 1)
	assert.Equal(t, "main", b.Sets[0].Branch)

	p.git("checkout", "-q", "main")
	r = p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "the branch main is checked out, and the data is that of feature/ladders", "a start says so")
	assert.Contains(t, p.must("snapshot", "branch", "switch", "--yes"), "its own, as it was left")
	assert.Equal(t, 10, count())
	p.git("checkout", "-q", "--detach")
	assert.Contains(t, p.refuses("snapshot", "branch", "switch", "--yes"), "no git branch is checked out")
	p.git("checkout", "-q", "feature/ladders")
	p.must("snapshot", "branch", "switch", "--yes")
	assert.Equal(t, 15, count())
	assert.Contains(t, p.refuses("snapshot", "branch", "switch", "--yes"), "the data is that of the branch that is checked out")

	// From the branch that it was come to from, although the data is another's.
	p.git("checkout", "-q", "main")
	p.git("checkout", "-qb", "idea")
	assert.Contains(t, p.must("snapshot", "branch", "switch", "--yes"), "a copy of that of main")
	assert.Equal(t, 10, count())
	p.git("checkout", "-qb", "other")
	p.must("snapshot", "branch", "keep")
	assert.Equal(t, "other", p.branches().Data)
	p.git("branch", "-qD", "idea")
	assert.Contains(t, p.must("snapshot", "branch"), "feature/ladders")
	p.must("snapshot", "branch", "drop", "feature/ladders")
	assert.Contains(t, p.refuses("snapshot", "branch", "drop", "feature/ladders"), "nothing is kept for the branch")

	// A service that a branch's data does not have yet goes on with what it has.
	p.write("neighbour.toml", "[snapshots]\non = { branch = true, switch = true }\n"+branched+"[service.photos]\nkind = \"objects\"\nbuckets = [\"photos\"]\n")
	p.must("apply")
	p.git("add", ".")
	p.git("commit", "-qm", "photos")
	p.git("checkout", "-q", "main")
	p.git("checkout", "-q", "other", "--", "neighbour.toml")
	require.Eventually(t, func() bool { return p.branches().Data == "main" }, patience, 20*time.Millisecond, "it follows by itself")
	p.must("start")
	assert.Equal(t, 10, count())
	for _, set := range p.branches().Sets {
		if set.Branch == "other" {
			assert.Equal(t, []string{"file", "photos", "reviews"}, set.Services)
		}
	}
	p.must("stop")
	p.git("checkout", "-qf", "other")
	p.must("start")
	assert.Equal(t, "other", p.branches().Data, "a start follows, too")
	p.write("neighbour.toml", "[snapshots]\non = { switch = true }\n"+branched)
	assert.Contains(t, p.run("check").stderr, "switch means nothing without branch")
	p.write("neighbour.toml", branched)
}

// No migration of one branch runs on the data of another before its user has said what that is to
// be.
func TestMigrationsOfAnotherBranch(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[snapshots]\non = { branch = true }\n[service.file]\nkind = \"sqlite\"\nfile = \"app.db\"\nmigrations = \"db\"\n[service.api]\nrun = \"sleep 1000\"\nneeds = [\"file\"]\n[errand.count]\nrun = \"echo\"\nwith = \"file\"\n[errand.seed]\nrun = \"sh -c 'echo seeds/* >> seeded.txt'\"\nwith = \"file\"\nbefore = [\"api\"]\nwhen = [\"seeds/*\"]\n")
	p.write(".gitignore", ".neighbour\napp.db*\nseeded.txt\n")
	p.write("seeds/1", "")
	seeded := func() string {
		text, err := os.ReadFile(filepath.Join(p.dir, "seeded.txt"))
		require.NoError(t, err)
		return string(text)
	}
	p.write("db/1.sql", "create table tools (id integer primary key);")
	p.git("init", "-q")
	p.git("add", ".")
	p.git("commit", "-qm", "begin")
	p.must("start")
	p.git("checkout", "-qb", "ladders")
	p.write("db/2.sql", "alter table tools add height int;")
	p.write("seeds/2", "")
	p.git("add", ".")
	p.git("commit", "-qm", "ladders")
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "its migrations wait: the branch ladders is checked out, and the data is that of main")
	assert.NotContains(t, p.must("data", "file", "tools", "--structure"), "height")
	p.must("snapshot", "branch", "switch", "--yes")
	p.until("file", "ready")
	assert.Contains(t, p.must("data", "file", "tools", "--structure"), "height", "they run on its own")
	p.until("api", "ready")
	assert.Equal(t, "seeds/1\nseeds/1 seeds/2\n", seeded(), "what is due on this data runs before what needs it")
	p.git("checkout", "-q", "main")
	p.must("snapshot", "branch", "switch", "--yes")
	p.until("api", "ready")
	assert.NotContains(t, p.must("data", "file", "tools", "--structure"), "height")
	assert.Equal(t, "seeds/1\nseeds/1 seeds/2\n", seeded(), "and what ran on that of main is not due on it")
	p.write("seeds/3", "")
	p.must("restart", "api")
	assert.Contains(t, seeded(), "\nseeds/1 seeds/3\n")
	p.must("stop")
	p.must("count")
	assert.Equal(t, "ready", p.status().Service["file"].State, "an errand with a database needs it")
}

// A keeper that is killed in the midst of a switch leaves the data of one of the branches, and says
// of which it is; so does the command that imports an archive.
func TestBranchesOfKilledKeepers(t *testing.T) {
	t.Parallel()
	p, write, count := newBranched(t, "[snapshots]\non = { branch = true }\n")
	write(1, 20)
	require.NoError(t, os.WriteFile(p.state("data/reviews/large"), make([]byte, 32<<20), 0o600))
	p.git("checkout", "-qb", "other")
	p.must("snapshot", "branch", "switch", "--yes")
	write(21, 50)
	has := map[string]int{"main": 20, "other": 50}
	switched := 0
	for range 15 {
		before := p.branches()
		to := map[string]string{"main": "other", "other": "main"}[before.Data]
		p.git("checkout", "-q", to)
		cmd := exec.Command(binary, "snapshot", "branch", "switch", "--yes")
		cmd.Dir = p.dir
		keeper := p.status().Keeper.PID
		require.NoError(t, cmd.Start())
		time.Sleep(rand.N(200 * time.Millisecond)) // any moment of it
		require.NoError(t, syscall.Kill(keeper, syscall.SIGKILL))
		_ = cmd.Wait()
		p.must("start")
		for _, name := range []string{"file", "reviews"} {
			p.until(name, "ready")
		}
		b := p.branches()
		require.Equal(t, has[b.Data], count(), "it is the data of %s", b.Data)
		if b.Data != before.Data {
			switched++
		}
		for _, set := range b.Sets {
			assert.Len(t, set.Services, 2, "%s is whole", set.Branch)
		}
		left, _ := filepath.Glob(p.state("*/.unfinished-*"))
		beside, _ := filepath.Glob(p.state("data/*.re*"))
		assert.Empty(t, append(left, beside...))
	}
	t.Logf("%d of 15 were through", switched)

	archive := filepath.Join(t.TempDir(), "main.tar.zst")
	p.must("snapshot", "save", "whole")
	p.must("snapshot", "export", "whole", archive)
	p.must("snapshot", "drop", "whole")
	n := count()
	for range 15 {
		cmd := exec.Command(binary, "snapshot", "import", archive)
		cmd.Dir = p.dir
		require.NoError(t, cmd.Start())
		time.Sleep(rand.N(200 * time.Millisecond)) // any moment of it
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if p.run("snapshot", "show", "whole").code == 0 {
			p.must("snapshot", "restore", "whole", "--yes")
			p.until("file", "ready")
			p.until("reviews", "ready")
			require.Equal(t, n, count(), "what is in the list is whole")
			p.must("snapshot", "drop", "whole")
		}
	}
	p.must("snapshot", "import", archive)
	left, _ := filepath.Glob(p.state("snapshots/.unfinished-*"))
	assert.Empty(t, left, "what was killed is gone with the next")
}
