package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/project"
)

// Times are written as they are at Greenwich, whatever the machine has.
func init() { time.Local = time.UTC }

var update = flag.Bool("update", false, "write the expected output anew")

// transcript are command lines whose output is in testdata/output.txt. No
// keeper runs.
var transcript = []string{
	"status", "status --json",
	"env api", "env api --why", "env api --format shell", "env api --json", "env engine", "env api --format yaml", "env nobody",
	"logs", "logs api -n 1", "logs --level warn", "logs --text drill --json", "logs --grep (", "logs --since yesterday-ish",
	"operations", "operations --json", "operations cancel 3", "operations cancel x",
	"run -- true", "run", "console engine",
	"stop", "strat", "start --cold", "start nobody", "reset", "status now",
}

// inbox is an address whose port is any that is free.
var inbox = regexp.MustCompile(`http://127\.0\.0\.1:41[23]\d`)

func TestOutput(t *testing.T) {
	state := t.TempDir()
	t.Setenv("XDG_STATE_HOME", state)
	// The gate's ports are those that this machine happens to have free.
	require.NoError(t, os.MkdirAll(filepath.Join(state, "neighbour/gate"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(state, "neighbour/gate/ports.json"), []byte(`{"https":443,"http":80}`), 0o600))
	t.Setenv("SHED_NAME", "")
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("neighbour.toml", `[project]
name = "toolshed"

[service.engine]
kind = "mail"
port = 4125

[service.api]
run = "sleep 1000"
port = 4100
needs = ["engine"]
env = { SMTP = "smtp://${engine.host}:${engine.port}", SHED = "${env.SHED_NAME:-north shed}", QUOTE = "it's" }

[service.worker]
run = "sleep 1000"
`)
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	require.NoError(t, os.WriteFile(filepath.Join(p.LogDir(), "api.log"), []byte("2026-03-02T09:00:00Z INFO listening on 4100\n2026-03-02T09:00:01Z WARN drill 7\x1b]0;title\x07\x1b[2J\tis \x1b[31moverdue\x1b[m\n"), 0o600))

	var all strings.Builder
	for _, line := range transcript {
		text, code := carryOut(t, dir, strings.Fields(line))
		fmt.Fprintf(&all, "$ neighbour %s\n%s(exit %d)\n\n", line, inbox.ReplaceAllString(strings.ReplaceAll(text, dir, "DIR"), "http://127.0.0.1:PORT"), code)
	}
	golden(t, "testdata/output.txt", all.String())
}

// Every command explains itself, with an example.
func TestHelp(t *testing.T) {
	var all strings.Builder
	for _, name := range append([]string{""}, command.Names(newRoot(&command.App{Out: &command.Cleaner{}, Err: &command.Cleaner{}}))...) {
		if name == "help" || name == "completion" { // these are the library's
			continue
		}
		text, code := carryOut(t, t.TempDir(), append(strings.Fields(name), "--help"))
		assert.Zero(t, code)
		assert.Contains(t, text, "Examples:", name)
		fmt.Fprintf(&all, "$ neighbour %s --help\n%s\n", name, text)
	}
	golden(t, "testdata/help.txt", all.String())
}

// carryOut runs a command, and returns what it prints on both outputs and its
// exit code.
func carryOut(t *testing.T, dir string, args []string) (string, int) {
	t.Helper()
	f, err := os.CreateTemp(t.TempDir(), "output")
	require.NoError(t, err)
	defer f.Close()
	a := &command.App{Out: &command.Cleaner{To: f}, Err: &command.Cleaner{To: f}, Raw: f, Live: f}
	code := execute(context.Background(), a, append([]string{"-C", dir}, args...))
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	return string(b), code
}

func golden(t *testing.T, path, got string) {
	t.Helper()
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o600))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err, "write it with -update")
	assert.Equal(t, string(want), got)
}
