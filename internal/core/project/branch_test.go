package project_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/project"
)

// What is checked out is read from git's own files, in a work tree, in a folder within it, and in a
// linked work tree.
func TestBranch(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	root := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	const declared = "[snapshots]\non = { branch = true }\n[service.file]\nkind = \"sqlite\"\n"
	at := func(dir string) *project.Project {
		t.Helper()
		p, err := project.Open(filepath.Join(root, dir))
		require.NoError(t, err)
		return p
	}
	branch := func(p *project.Project) project.Branch {
		t.Helper()
		b, err := p.Branch()
		require.NoError(t, err)
		return b
	}
	write("app/neighbour.toml", declared)
	p := at("app")
	require.NoError(t, p.EnsureDirs())
	assert.Zero(t, branch(p), "no repository")
	write(".git/HEAD", "ref: refs/heads/feature/ladders\n")
	assert.Equal(t, project.Branch{Now: "feature/ladders"}, branch(p))
	assert.False(t, branch(p).Differs(), "whose the data is isn't known yet")
	require.NoError(t, p.SetBranch("main"))
	assert.Equal(t, project.Branch{Data: "main", Now: "feature/ladders"}, branch(p), "git tells nothing of where it came from")
	line := func(from, to string) string {
		return "0000 1111 Ines Brandt <ines@example.org> 1764230400 +0100\tcheckout: moving from " + from + " to " + to + "\n"
	}
	write(".git/logs/HEAD", line("old", "feature/ladders")+line("feature/ladders", "idea")+"x\tcommit: moving from a to feature/ladders\n"+line("idea", "feature/ladders")+line("feature/ladders", "feature/ladders"))
	assert.Equal(t, "idea", branch(p).From, "the latest counts")
	write(".git/logs/HEAD", line("idea", "feature/ladders")+strings.Repeat(line("a", "b"), 3000))
	assert.Empty(t, branch(p).From, "it is too long ago")
	write(".git/HEAD", "2f1c7e\n")
	assert.Equal(t, project.Branch{Data: "main"}, branch(p), "no branch is checked out")
	require.NoError(t, os.Remove(filepath.Join(root, ".git/HEAD")))
	assert.Empty(t, branch(p).Now, "a damaged repository")

	write(".git/packed-refs", "# pack-refs with: peeled\n2f1c7e refs/heads/packed/one\n")
	write(".git/refs/heads/main", "2f1c7e\n")
	for name, has := range map[string]bool{"main": true, "packed/one": true, "packed": false, "gone": false} {
		assert.Equal(t, has, p.HasGitBranch(name), name)
	}
	write("linked/.git", "gitdir: ../.git/worktrees/linked\n")
	write("linked/neighbour.toml", declared)
	write(".git/worktrees/linked/HEAD", "ref: refs/heads/idea\n")
	write(".git/worktrees/linked/commondir", "../..\n")
	linked := at("linked")
	assert.Equal(t, "idea", branch(linked).Now)
	write(".git/worktrees/linked/commondir", "../../\n")

	write("off/neighbour.toml", "[service.file]\nkind = \"sqlite\"\n")
	write("off/.git/HEAD", "ref: refs/heads/main\n")
	assert.Zero(t, branch(at("off")), "it is not declared")
	require.NoError(t, os.WriteFile(filepath.Join(p.StateFolder(), "branch.json"), []byte("{"), 0o600))
	_, err := p.Branch()
	assert.ErrorContains(t, err, "branch.json")
}

// The data of each branch has a name of its own that is one of a snapshot, whatever the branch's.
func TestBranchSetsDiffer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.String().Draw(t, "a"), rapid.String().Draw(t, "b")
		require.NoError(t, snapshot.CheckName(project.BranchSet(a)))
		assert.True(t, project.IsBranchSet(project.BranchSet(a)))
		assert.Equal(t, a == b, project.BranchSet(a) == project.BranchSet(b))
	})
}

// Projects that need one another in a circle are told so, with the way round.
func TestCheckBorrowed(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	root := t.TempDir()
	declare := func(name, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Join(root, name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name, "neighbour.toml"), []byte(text), 0o644))
	}
	borrow := func(name, project, service string) string {
		return "[service." + name + "]\nkind = \"project\"\nproject = \"../" + project + "\"\nservice = \"" + service + "\"\n"
	}
	declare("books", "[service.ledger]\nrun = \"sleep 1\"\nneeds = [\"rates\"]\n"+borrow("rates", "rates", "table"))
	declare("rates", "[service.table]\nrun = \"sleep 1\"\n[service.spare]\nrun = \"sleep 1\"\nneeds = [\"shop\"]\n"+borrow("shop", "shop", "web"))
	declare("shop", "[service.web]\nrun = \"sleep 1\"\nneeds = [\"ledger\"]\n"+borrow("ledger", "books", "ledger"))
	check := func(name, service string) error {
		t.Helper()
		p, err := project.Open(filepath.Join(root, name))
		require.NoError(t, err)
		return p.CheckBorrowed(p.Service(service))
	}
	require.NoError(t, check("shop", "ledger"), "spare is not needed")
	require.NoError(t, check("shop", "web"), "a service of its own")
	declare("rates", "[service.table]\nrun = \"sleep 1\"\nneeds = [\"shop\"]\n"+borrow("shop", "shop", "web"))
	assert.EqualError(t, check("shop", "ledger"), "projects need one another in a circle: shop.ledger → books.ledger → rates.table → shop.web")
	assert.ErrorContains(t, check("rates", "shop"), "rates.shop → shop.web → books.ledger → rates.table")

	// What the others execute is what one has to agree to.
	p, err := project.Open(filepath.Join(root, "shop"))
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Commands(), "\n"), "ledger: books's rates: rates's table: sleep 1")

	declare("other", borrow("one", "books", "lodger")+borrow("two", "nowhere", "x")+borrow("three", "other", "one"))
	assert.ErrorContains(t, check("other", "one"), `there is no service "lodger"`)
	assert.ErrorContains(t, check("other", "two"), "nowhere")
	assert.ErrorContains(t, check("other", "three"), "that is this project")
	require.NoError(t, os.Symlink(filepath.Join(root, "books"), filepath.Join(root, "link")))
	declare("other", borrow("one", "link", "ledger"))
	assert.NoError(t, check("other", "one"))
	require.NoError(t, os.Mkdir(filepath.Join(root, "books", "within"), 0o755))
	declare("other", strings.Replace(borrow("one", "books", "ledger"), "../books", "../books/within", 1))
	assert.ErrorContains(t, check("other", "one"), "is no project", "not the one above it")
}
