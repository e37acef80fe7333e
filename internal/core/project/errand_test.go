package project_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
)

const withErrands = `
[service.ledger]
kind = "sqlite"
file = "app.db"
[service.api]
run = "sleep 1"
dir = "app"
env = { WHERE = "${ledger.path}", A = "api's" }
[errand.migrate]
with = "api"
run = "migrate --all"
before = ["api"]
when = ["*.py"]
env.A = "its own"
[errand.count]
run = "count | sort"
dir = "lists"
[errand.whole]
run = ["count", "${project.name}"]
dir = "/tmp"
`

func TestErrandCommands(t *testing.T) {
	p := open(t, t.TempDir(), withErrands)
	variables := func(c project.Command) map[string]string {
		out := map[string]string{}
		for _, v := range c.Variables {
			out[v.Name] = v.Value // later ones go before earlier ones
		}
		return out
	}
	c, err := p.ErrandCommand(p.Errand("migrate"), []string{"-x", "a b"}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"migrate", "--all", "-x", "a b"}, c.Argv)
	assert.Equal(t, filepath.Join(p.Dir, "app"), c.Dir)
	assert.Equal(t, filepath.Join(p.Dir, "app.db"), variables(c)["WHERE"])
	assert.Equal(t, "its own", variables(c)["A"])
	c, err = p.ErrandCommand(p.Errand("migrate"), nil, []project.Explained{})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"A": "its own"}, variables(c), "what was found out elsewhere is taken")

	c, err = p.ErrandCommand(p.Errand("count"), []string{"x"}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"/bin/sh", "-c", `count | sort "$@"`, "sh", "x"}, c.Argv)
	assert.Equal(t, filepath.Join(p.Dir, "lists"), c.Dir)
	c, err = p.ErrandCommand(p.Errand("whole"), nil, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"count", p.Name}, c.Argv)
	assert.Equal(t, "/tmp", c.Dir)

	// With a server, a command gets what leads to it.
	vars, err := p.EnvironmentWith("ledger", false)
	require.NoError(t, err)
	assert.Equal(t, "LEDGER_PATH", vars[0].Name)
	assert.Nil(t, p.Errand("none"))
}

// An errand before a start is due until it ran, again when a file's content is
// another, and when its data is.
func TestErrandDue(t *testing.T) {
	p := open(t, t.TempDir(), withErrands)
	require.NoError(t, os.Mkdir(filepath.Join(p.Dir, "app"), 0o755))
	file := filepath.Join(p.Dir, "app", "one.py")
	require.NoError(t, os.WriteFile(file, []byte("1"), 0o644))
	why := func() string {
		t.Helper()
		due, err := p.ErrandDue(p.Errand("migrate"))
		require.NoError(t, err)
		return due.Why
	}
	done := func() {
		t.Helper()
		due, err := p.ErrandDue(p.Errand("migrate"))
		require.NoError(t, err)
		require.NoError(t, due.Done())
	}
	in, err := p.Instance(p.Service("ledger"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.Dir, "app.db"), []byte("data"), 0o644))
	require.NoError(t, p.NoteData(in))
	first, err := p.DataID("ledger")
	require.NoError(t, err)
	assert.NotEmpty(t, first)

	assert.Equal(t, "it has not run yet", why())
	done()
	assert.Empty(t, why())
	require.NoError(t, os.WriteFile(file, []byte("1"), 0o644))
	assert.Empty(t, why(), "its content is the same")
	require.NoError(t, os.WriteFile(file, []byte("2"), 0o644))
	assert.Equal(t, "what it depends on has changed: *.py", why())
	done()

	require.NoError(t, p.Empty("ledger"))
	assert.NoFileExists(t, filepath.Join(p.Dir, "app.db"))
	assert.Equal(t, "the data of ledger is another", why())
	require.NoError(t, os.WriteFile(filepath.Join(p.Dir, "app.db"), []byte("data"), 0o644))
	require.NoError(t, p.NoteData(in))
	second, err := p.DataID("ledger")
	require.NoError(t, err)
	assert.NotEqual(t, first, second)
	assert.Equal(t, "the data of ledger is another", why())
	done()
	assert.Empty(t, why())
	require.NoError(t, p.ForgetErrands("api"))
	assert.Empty(t, why(), "it doesn't need that")
	require.NoError(t, p.ForgetErrands("ledger"))
	assert.Equal(t, "it has not run yet", why())

	// Data that somebody else took away is another, too.
	done()
	require.NoError(t, os.Remove(filepath.Join(p.Dir, "app.db")))
	require.NoError(t, p.CheckData(in))
	assert.Equal(t, "the data of ledger is another", why())
	assert.False(t, p.KeepsData(p.Service("api")))
	assert.True(t, p.KeepsData(p.Service("ledger")))
}

// What an interrupted emptying has left is deleted at the next start.
func TestEmptiedDataIsDeleted(t *testing.T) {
	p := open(t, t.TempDir(), "[service.shelf]\nkind = \"redis\"\n")
	in, err := p.Instance(p.Service("shelf"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(in.Data, "x"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(in.Data, "x", "y"), make([]byte, 5000), 0o644))
	assert.Equal(t, uint64(5000), project.Size(p.DataOf(in)...))
	require.NoError(t, os.Rename(in.Data, in.Data+".emptied-1"))
	p.RemoveEmptied(in)
	assert.NoDirExists(t, in.Data+".emptied-1")
	require.NoError(t, p.Empty("shelf"), "there is nothing")
}

// What runs by itself is part of what a user agrees to; what he asks for by name
// need not be.
func TestCommandsOfErrands(t *testing.T) {
	p := open(t, t.TempDir(), withErrands+"[service.books]\nkind = \"sqlite\"\nseed = { run = \"node seed.js\", with = \"api\" }\n[errand.told]\nrun = \"tell\"\non = { failed = \"api\" }\n")
	all := p.Commands()
	assert.Contains(t, all, "errand migrate: migrate --all")
	assert.Contains(t, all, "errand told: tell")
	assert.Contains(t, all, "books: node seed.js")
	assert.NotContains(t, all, "errand count: count | sort")
}

// The versions that were chosen go first in PATH; one that is called otherwise
// gets its usual name.
func TestRuntimesInPath(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CACHE_HOME", filepath.Join(home, "cache"))
	put := func(path, says string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\necho '"+says+"'\n"), 0o755))
	}
	bin := filepath.Join(home, "bin")
	put(filepath.Join(bin, "node"), "v18.1.0")
	put(filepath.Join(bin, "php8.2"), "PHP 8.2.7")
	put(filepath.Join(home, ".any/versions/node/20.1.0/bin/node"), "v20.1.0")
	other := filepath.Join(home, "other")
	put(filepath.Join(other, "node"), "v22.1.0")
	t.Setenv("PATH", bin+":"+other)
	p := open(t, t.TempDir(), "[service.a]\nrun = \"x\"\nuses = { node = \"20\", php = \"8.2\" }\n[service.b]\nrun = \"x\"\nuses = { node = \"18\" }\n[service.d]\nrun = \"x\"\nuses = { node = \"22\" }\n[service.c]\nrun = \"x\"\nenv.PATH = \"/opt/own\"\nuses = { node = \"20\" }\n")
	require.NoError(t, p.Agree())
	path := func(service string) string {
		vars, err := p.Variables(p.Service(service))
		require.NoError(t, err)
		for _, v := range vars {
			if v.Name == "PATH" {
				return v.Value
			}
		}
		return ""
	}
	alias := filepath.Join(p.StateFolder(), "run", "a", "path")
	assert.Equal(t, filepath.Join(home, ".any/versions/node/20.1.0/bin")+":"+alias+":"+bin+":"+other, path("a"))
	target, err := os.Readlink(filepath.Join(alias, "php"))
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(bin, "php8.2"), target)
	assert.Empty(t, path("b"), "it is first as it is")
	assert.Equal(t, filepath.Join(home, ".any/versions/node/20.1.0/bin")+":/opt/own", path("c"))
	assert.Equal(t, filepath.Join(p.StateFolder(), "run", "d", "path")+":"+bin+":"+other, path("d"), "other programs of that folder don't go first")
	assert.Equal(t, "20.1.0", p.Runtimes(p.Service("a"))[0].Version)
}
