// Package core has no code of its own: it is the folder of what Neighbour
// does, without any interface.
package core

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The core must be usable without an interface, so it may import none, and
// no terminal library.
func TestCoreImportsNoInterface(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "neighbour/internal/core/...").CombinedOutput()
	require.NoError(t, err, string(out))
	for dep := range strings.FieldsSeq(string(out)) {
		for _, banned := range []string{"neighbour/internal/tui", "neighbour/internal/cli", "neighbour/internal/api", "neighbour/internal/draw", "charm.land/", "github.com/charmbracelet/", "github.com/spf13/cobra"} {
			assert.False(t, strings.HasPrefix(dep, banned), "the core imports %s", dep)
		}
	}
}

// Whoever leads one service knows nothing of projects.
func TestSupervisionKnowsNoProject(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "neighbour/internal/core/supervise").CombinedOutput()
	require.NoError(t, err, string(out))
	for _, other := range []string{"declare", "plan", "kind", "wire", "project", "launch", "keep"} {
		assert.NotContains(t, strings.Fields(string(out)), "neighbour/internal/core/"+other)
	}
}

// A kind and an emulator are a folder each and a line in a list: a scratch tree
// with both builds, finds the kind by its own hints in a project, and runs the
// emulator.
func TestAKindIsAFolderAndALine(t *testing.T) {
	tree := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(tree, "cmd"), os.DirFS("../../cmd")))
	parts, err := os.ReadDir("..")
	require.NoError(t, err)
	for _, part := range parts {
		if part.Name() != "e2e" { // which no program has, and which may have many packages of npm in it
			require.NoError(t, os.CopyFS(filepath.Join(tree, "internal", part.Name()), os.DirFS(filepath.Join("..", part.Name()))))
		}
	}
	require.NoError(t, os.CopyFS(filepath.Join(tree, "third_party"), os.DirFS("../../third_party")))
	for _, file := range []string{"go.mod", "go.sum"} {
		b, err := os.ReadFile(filepath.Join("../..", file))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(tree, file), b, 0o600))
	}
	write := func(path, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(tree, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(tree, path), []byte(text), 0o600))
	}
	line := func(path, before, more, path2 string) {
		b, err := os.ReadFile(filepath.Join(tree, path))
		require.NoError(t, err)
		text := strings.Replace(string(b), before, before+more, 1)
		write(path, strings.Replace(text, "import (\n", "import (\n\t"+path2+"\n", 1))
	}
	write("internal/emulator/post/post.go", scratchEmulator)
	line("internal/emulator/catalogue/catalogue.go", "[]emulator.Emulator{", "post.Emulator, ", `"neighbour/internal/emulator/post"`)
	write("internal/core/kind/post/post.go", scratchKind)
	line("internal/core/kind/catalogue/catalogue.go", "var All = Catalogue{\n", "\tpost.Kind{},\n", `"neighbour/internal/core/kind/post"`)
	write("project/package.json", `{"dependencies": {"post-client": "1"}}`)
	write("project/.env", "POST_HOST=localhost\nPOST_PORT=9999\n")
	run := func(args ...string) string {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = tree
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(tree, "state"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	run("go", "build", "-buildvcs=false", "-trimpath", "-ldflags=-s -w", "-o", "neighbour", "./cmd/neighbour")
	run("./neighbour", "-C", "project", "init", "--yes")
	declared, err := os.ReadFile(filepath.Join(tree, "project", "neighbour.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(declared), `kind = "post"`)
	t.Cleanup(func() { run("./neighbour", "-C", "project", "stop") })
	assert.Contains(t, run("./neighbour", "-C", "project", "start", "letters"), "1 of 1 ready")
}

const scratchEmulator = `package post

import (
	"context"
	"flag"
	"log"
	"net"

	"neighbour/internal/emulator"
)

var Emulator = emulator.Emulator{Name: "post", Options: func(f *flag.FlagSet) emulator.Serve {
	f.String("misbehave", "", "")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		log.Print("open")
		<-ctx.Done()
		return nil
	}
}}
`

const scratchKind = `package post

import (
	"strconv"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
	"neighbour/internal/emulator/misbehave"
)

type Kind struct{ kind.Emulated }

func (Kind) Info() kind.Info {
	return kind.Info{Name: "post", About: "post", Listens: true, Facts: []string{"host", "port"}}
}
func (Kind) Hints() kind.Hints {
	return kind.Hints{Title: "post offices", Name: "letters", Libraries: []string{"post-client"}, Words: []string{"POST"}}
}
func (Kind) Settings() any                                  { return &struct{}{} }
func (Kind) Find(in *kind.Instance) (kind.Program, error)   { return kind.Program{Path: in.Self}, nil }
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Emulate(in, "post", misbehave.Rules{})
}
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "post"), nil }
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.TCP("127.0.0.1:" + strconv.Itoa(in.Port)), nil
}
`
