// Package e2e tests the program as users have it: the built binary, real
// servers, a real terminal.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
	places "neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue" // as the program has them
)

// binary is the built program.
var binary string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "neighbour-e2e")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		// The user's own list of projects and demo are left alone.
		os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
		os.Setenv("TMPDIR", filepath.Join(dir, "tmp"))
		os.Unsetenv("XDG_RUNTIME_DIR")
		os.Unsetenv("CI") // projects of a CI machine have their state in their tree
		// All these projects would share one gate, and its ports are the machine's: those
		// that are about it have one of their own.
		os.Setenv("NEIGHBOUR_GATE", "off")
		if err := os.Mkdir(filepath.Join(dir, "tmp"), 0o777); err != nil {
			panic(err)
		}
		_ = os.Chmod(dir, 0o755)
		binary = filepath.Join(dir, "neighbour")
		build := exec.Command("go", "build", "-race="+strconv.FormatBool(withRace), "-ldflags=-s -w", "-o", binary, "neighbour/cmd/neighbour")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprint(err, string(out)))
		}
		// What the race detector finds in any process ends up beside the others.
		os.Setenv("GORACE", "atexit_sleep_ms=0 log_path="+filepath.Join(dir, "race"))
		code := m.Run()
		races, _ := filepath.Glob(filepath.Join(dir, "race*"))
		for _, r := range races {
			b, _ := os.ReadFile(r)
			fmt.Println(string(b))
			code = 1
		}
		return code
	}())
}

// sudo is what stands before a command that this user needs more rights for.
var sudo = map[bool]string{true: "", false: "sudo "}[os.Getuid() == 0]

// project is a folder with a declaration.
type project struct {
	t   testing.TB
	dir string
	env []string // beside the test's own, for all that is run in it
}

// newProject writes a declaration into a fresh folder. After the test
// everything is stopped, and nothing may be left of it.
func newProject(t testing.TB, declaration string) *project {
	t.Helper()
	return newProjectIn(t, t.TempDir(), declaration)
}

func newProjectIn(t testing.TB, dir, declaration string) *project {
	t.Helper()
	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	p := &project{t: t, dir: real}
	p.write("neighbour.toml", declaration)
	t.Cleanup(p.clean)
	return p
}

func (p *project) clean() {
	if p.t.Failed() {
		p.t.Logf("%s%s", p.run("status").stdout, p.run("logs", "--events", "-n", "40").stdout)
	}
	r := p.run("stop")
	assert.Contains(p.t, []int{0, 1}, r.code, r.stderr)
	assert.Empty(p.t, p.left(), "processes are left after a stop")
	// Data of servers that don't run as root is elsewhere.
	links, _ := filepath.Glob(p.state("data", "*"))
	for _, l := range links {
		if target, err := os.Readlink(l); err == nil && strings.HasPrefix(target, "/var/lib/neighbour/") {
			_ = os.RemoveAll(filepath.Dir(filepath.Dir(target)))
		}
	}
	if state := p.state(); r.code == 0 && filepath.Dir(state) != p.dir {
		_ = tree.Remove(state) // some hundred databases would be there at the end
	}
}

// left describes the processes that carry the project's mark.
func (p *project) left() []string {
	table, err := proc.ReadTable()
	require.NoError(p.t, err)
	var left []string
	for pid, e := range table {
		if mark := proc.MarkOf(pid); strings.HasPrefix(mark, p.dir+":") && e.Alive() {
			left = append(left, fmt.Sprintf("%d %s", pid, mark))
		}
	}
	return left
}

func (p *project) write(name, text string) string {
	p.t.Helper()
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, []byte(text), 0o755))
	return path
}

type result struct {
	stdout, stderr string
	code           int
}

// run runs a command of the program in the project.
func (p *project) run(args ...string) result {
	p.t.Helper()
	return runWith(p.t, p.env, p.dir, args...)
}

func runIn(t testing.TB, dir string, args ...string) result {
	t.Helper()
	return runWith(t, nil, dir, args...)
}

func runWith(t testing.TB, env []string, dir string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	runErr := cmd.Run()
	require.NoError(t, ctx.Err(), "neighbour %v hangs: %s %s", args, &out, &err)
	if cmd.ProcessState == nil {
		require.NoError(t, runErr)
	}
	return result{out.String(), err.String(), cmd.ProcessState.ExitCode()}
}

// must runs a command that has to work.
func (p *project) must(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	require.Zero(p.t, r.code, "neighbour %v: %s%s", args, r.stdout, r.stderr)
	return r.stdout
}

type status struct {
	Project string
	Keeper  *struct{ PID int }
	Service map[string]service `json:"-"`
	List    []service          `json:"services"`
}

type service struct {
	Name, Kind, State, Reason, Exposed, Version string
	Needs                                       []string
	Step, Port, PID, Restarts                   int
	ReadyMS                                     float64 `json:"ready_ms"`
	Facts                                       map[string]string
}

func (p *project) status() status {
	p.t.Helper()
	return p.statusOf("")
}

// statusOf is status for a copy of the project.
func (p *project) statusOf(copy string) status {
	p.t.Helper()
	var s status
	require.NoError(p.t, json.Unmarshal([]byte(p.must("--copy", copy, "status", "--json")), &s))
	s.Service = map[string]service{}
	for _, svc := range s.List {
		s.Service[svc.Name] = svc
	}
	return s
}

// until waits until a service is in a state.
func (p *project) until(name, state string) service {
	p.t.Helper()
	var last service
	require.Eventually(p.t, func() bool {
		if now := p.peek(name); now != "" && now != state {
			return false
		}
		last = p.status().Service[name]
		return last.State == state
	}, patience, 20*time.Millisecond, "%s is not %s", name, state)
	return last
}

// peek asks the keeper for the state of a service, without a command, which would take much of the
// machine where it is asked again and again; "" if no keeper answers.
func (p *project) peek(name string) string {
	c := api.NewClient(p.socket())
	defer c.Close()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	s, err := c.Status(ctx)
	if err != nil {
		return ""
	}
	for _, st := range s.Services {
		if st.Name == name {
			if st.Held {
				return "held"
			}
			return string(st.State)
		}
	}
	return ""
}

// state returns a path in the project's state, wherever that is.
func (p *project) state(parts ...string) string {
	return filepath.Join(append([]string{places.At(p.dir).StateFolder()}, parts...)...)
}

func (p *project) socket() string { return places.At(p.dir).Socket() }

// program is a declaration of a service that runs until it is stopped.
func program(name string, lines ...string) string {
	return fmt.Sprintf("[service.%s]\nrun = \"sleep 1000\"\n%s\n", name, strings.Join(lines, "\n"))
}

// holds waits until a file of the project has a content.
func (p *project) holds(name, want string) {
	p.t.Helper()
	var got []byte
	if !assert.Eventually(p.t, func() bool {
		got, _ = os.ReadFile(filepath.Join(p.dir, name))
		return string(got) == want
	}, patience, 20*time.Millisecond) {
		assert.Equal(p.t, want, string(got), name)
	}
}
