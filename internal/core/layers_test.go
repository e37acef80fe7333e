// Package core has no code of its own: it is the folder of what Neighbour
// does, without any interface.
package core

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the parts of the program from the bottom up: one imports only those below it, and
// itself. What is not listed is used by all, or is no part of the program.
var floors = []string{
	"core/machine", "core/declaration", "core/record", "core/data", "core/kind", "core/project", "core/keeper",
	"emulator", "kinds", "gate", "api", "draw", "tui", "cli/command", "cli",
}

// floorOf returns the place of a package's floor, -1 if it is on none.
func floorOf(pkg string) int {
	name, own := strings.CutPrefix(pkg, "neighbour/internal/")
	return slices.IndexFunc(floors, func(f string) bool { return own && (name == f || strings.HasPrefix(name, f+"/")) })
}

// list returns the lines that go list prints of packages.
func list(t *testing.T, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

// Arrows lead down.
func TestFloors(t *testing.T) {
	t.Parallel()
	for _, line := range list(t, "-f", `{{.ImportPath}} {{join .Imports " "}}`, "neighbour/...") {
		all := strings.Fields(line)
		from := floorOf(all[0])
		for _, to := range all[1:] {
			if from >= 0 {
				assert.LessOrEqual(t, floorOf(to), from, "%s imports %s, which is above it", all[0], to)
			}
		}
	}
}

// The core links no interface and no server's driver, whatever is above it; what it does link
// stands here.
func TestLibraries(t *testing.T) {
	t.Parallel()
	declaration := []string{
		"github.com/pelletier/go-toml/v2", "github.com/Masterminds/semver/v3", "github.com/bmatcuk/doublestar/v4", // the file, versions, patterns
		"github.com/robfig/cron/v3", "golang.org/x/net", "golang.org/x/text", // times of triggers; names of hosts in ASCII
	}
	for part, allowed := range map[string][]string{
		"neighbour/internal/core/declaration/...": declaration,
		"neighbour/internal/core/...": append([]string{
			"modernc.org/", "github.com/dustin/go-humanize", "github.com/google/uuid", "github.com/remyoudompheng/bigfft", // SQLite, for the history
			"github.com/klauspost/compress", "github.com/fsnotify/fsnotify", "go.yaml.in/yaml/v4", "golang.org/x/sys", "golang.org/x/sync",
			"software.sslmate.com/src/go-pkcs12", "golang.org/x/crypto", // the trust store of Java programs
		}, declaration...),
	} {
		for _, module := range list(t, "-deps", "-f", "{{with .Module}}{{.Path}}{{end}}", part) {
			known := module == "" || module == "neighbour" || slices.ContainsFunc(allowed, func(a string) bool { return strings.HasPrefix(module, a) })
			assert.True(t, known, "%s links %s", part, module)
		}
	}
}

// Whoever leads one service knows nothing of projects.
func TestSupervisionKnowsNoProject(t *testing.T) {
	t.Parallel()
	for _, dep := range list(t, "-deps", "neighbour/internal/core/keeper/supervise") {
		for _, other := range []string{"declaration", "kind", "project", "keeper/launch", "keeper/keep"} {
			assert.False(t, strings.HasPrefix(dep, "neighbour/internal/core/"+other), "supervise links %s", dep)
		}
	}
}

// A kind and an emulator are a folder each and a line in a list: a scratch tree
// with both builds, finds the kind by its own hints in a project, and runs the
// emulator.
func TestAKindIsAFolderAndALine(t *testing.T) {
	t.Parallel()
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
	write("internal/kinds/post/post.go", scratchKind)
	line("internal/kinds/catalogue/catalogue.go", "var All = kind.Catalogue{\n", "\tpost.Kind{},\n", `"neighbour/internal/kinds/post"`)
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
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/kind/misbehave"
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
