package e2e

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// fault is something that goes wrong around services, or around the keeper.
type fault struct {
	name string
	// promise is what holds all the same.
	promise string
	// found is what was found when the fault was first tried.
	found       string
	declaration string
	try         func(t *testing.T, p *project)
}

// endless is a program that prints numbers, one after the other.
const endless = "[service.chatty]\nrun = \"sh -c 'i=0; while :; do i=$((i+1)); echo $$i; sleep 0.01; done'\"\n"

var faults = map[string][]fault{
	"keeper": {
		{
			name: "killed during the first preparation", promise: "the next start succeeds, whatever was left", declaration: "[service.ledger]\nkind = \"postgres\"\n",
			found: "4 of 12 starts failed; mended: what prepares is found by its mark, and what is not finished is begun anew",
			try: func(t *testing.T, p *project) {
				testkit.Need(t, testkit.Postgres, "postgres")
				for range 3 {
					p.must("start", "--no-wait")
					p.eventually(func(s status) bool {
						return s.Service["ledger"].State == "preparing" || s.Service["ledger"].State == "ready"
					})
					p.killKeeper()
				}
				p.must("start")
				assert.Equal(t, "ready", p.status().Service["ledger"].State)
			},
		},
		{
			name: "killed together with a server", promise: "a start brings the server back", declaration: "[service.ledger]\nkind = \"postgres\"\n",
			found: "failed for good, 24 of 24; mended",
			try: func(t *testing.T, p *project) {
				testkit.Need(t, testkit.Postgres, "postgres")
				p.must("start")
				s := p.status()
				for _, pid := range []int{s.Keeper.PID, s.Service["ledger"].PID} {
					require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
				}
				p.must("start")
				assert.Equal(t, "ready", p.status().Service["ledger"].State)
			},
		},
		{
			name: "its program is moved away", promise: "a change is applied all the same", declaration: program("api"),
			found: "apply returned 0 and the service stayed stopped; mended",
			try: func(t *testing.T, p *project) {
				// Another process copies it: one that this process writes can't be executed while a
				// child that another test has just forked holds it open.
				moved := filepath.Join(p.dir, "moved")
				require.NoError(t, exec.Command("cp", binary, moved).Run())
				out, err := exec.Command(moved, "-C", p.dir, "start").CombinedOutput()
				require.NoError(t, err, string(out))
				require.NoError(t, os.Remove(moved))
				p.write("neighbour.toml", program("api", "env.A = \"1\"")+program("more"))
				pid := p.status().Service["api"].PID
				p.must("apply")
				s := p.status().Service
				assert.Equal(t, "ready", s["api"].State)
				assert.NotEqual(t, pid, s["api"].PID)
			},
		},
		{
			name: "its profile is removed from the file", promise: "it is said, and all works", declaration: program("api") + "[profile.away]\nservice.api.env.A = \"1\"\n",
			found: "every command but stop refused; mended",
			try: func(t *testing.T, p *project) {
				p.must("start", "--profile", "away")
				p.write("neighbour.toml", program("api"))
				r := p.run("status")
				assert.Zero(t, r.code)
				assert.Contains(t, r.stderr, "has no profile away any more")
				for _, args := range [][]string{{"env", "api"}, {"check"}, {"logs"}} {
					assert.Zero(t, p.run(args...).code, args)
				}
				p.must("stop")
				assert.NotContains(t, p.run("start").stderr, "away")
			},
		},
		{
			name: "wanted by many at once", promise: "one is started", declaration: program("api"),
			found: "up to 16 waited; mended: one command starts a keeper, the others wait",
			try: func(t *testing.T, p *project) {
				var all sync.WaitGroup
				for range 12 {
					all.Go(func() { assert.Zero(t, p.run("start").code) })
				}
				done := make(chan struct{})
				go func() { defer close(done); all.Wait() }()
				most := 0
				for over := false; !over; {
					select {
					case <-done:
						over = true
					case <-time.After(5 * time.Millisecond):
					}
					n := 0
					lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
					for _, l := range lines {
						if b, _ := os.ReadFile(l); strings.Contains(string(b), "\x00keep\x00-C\x00"+p.dir+"\x00") {
							n++
						}
					}
					most = max(most, n)
				}
				assert.LessOrEqual(t, most, 2, "keepers at once")
			},
		},
		{
			name: "killed while a service starts", promise: "the start is finished with the same process",
			found: "held", declaration: program("slow", `health = { run = "test -e go", within = "30s" }`) + program("after", `needs = ["slow"]`),
			try: func(t *testing.T, p *project) {
				p.must("start", "--no-wait")
				pid := p.running("slow", "starting")
				p.killKeeper()
				p.write("go", "")
				p.must("start")
				assert.Equal(t, pid, p.status().Service["slow"].PID)
				assert.Equal(t, "ready", p.status().Service["after"].State)
			},
		},
		{
			name: "killed while a log line is waited for", promise: "a line that was printed meanwhile counts",
			found:       "an adopted service was ailing for ever: its line had come before; mended",
			declaration: "[service.line]\nrun = \"sh -c 'until test -e go; do sleep 0.02; done; echo open; exec sleep 1000'\"\nhealth = { log = \"^open$\", every = \"100ms\", fails = 1 }\n",
			try: func(t *testing.T, p *project) {
				p.must("start", "--no-wait")
				pid := p.running("line", "starting")
				p.killKeeper()
				p.write("go", "")
				time.Sleep(200 * time.Millisecond)
				p.must("start")
				p.killKeeper()
				time.Sleep(300 * time.Millisecond)
				line := p.status().Service["line"]
				assert.Equal(t, pid, line.PID)
				assert.Equal(t, "ready", line.State, line.Reason)
			},
		},
		{
			name: "killed while a service is prepared", promise: "the preparation is made again, and nothing of the first is left",
			found: "a script went on when what it waited for was killed before it; mended: what is killed is halted first", declaration: program("api", "prepare = [{ run = \"sh -c 'echo begun; test -e go || sleep 1000; echo done'\" }]"),
			try: func(t *testing.T, p *project) {
				p.must("start", "--no-wait")
				p.until("api", "preparing")
				p.killKeeper()
				p.write("go", "")
				p.must("start")
				assert.Equal(t, []string{"begun", "begun", "done"}, p.printed("api"))
				assert.Len(t, p.left(), 1)
			},
		},
		{
			name: "killed three times while all is ready", promise: "nothing is restarted, no line is lost, and what ends is started again",
			found: "held", declaration: program("base") + program("top", `needs = ["base"]`) + endless,
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				for range 3 {
					p.killKeeper()
					now := p.status()
					assert.NotEqual(t, before.Keeper.PID, now.Keeper.PID)
					for name, s := range before.Service {
						assert.Equal(t, s.PID, now.Service[name].PID, name)
						assert.Equal(t, "ready", now.Service[name].State)
						assert.Equal(t, s.ReadyMS, now.Service[name].ReadyMS)
					}
				}
				p.kill("top", syscall.SIGKILL)
				p.eventually(func(s status) bool {
					return s.Service["top"].State == "ready" && s.Service["top"].PID != before.Service["top"].PID && s.Service["top"].Restarts == 1
				})
				p.must("stop")
				p.unbroken("chatty")
			},
		},
		{
			name: "killed while services are stopped", promise: "the stop is finished",
			found: "held", declaration: program("base") + "[service.deaf]\nrun = \"sh -c 'trap : TERM; while :; do sleep 0.05; done'\"\nneeds = [\"base\"]\nstop = { grace = \"1500ms\" }\n",
			try: func(t *testing.T, p *project) {
				p.must("start")
				stop := exec.Command(binary, "stop", "deaf")
				stop.Dir = p.dir
				require.NoError(t, stop.Start())
				p.until("deaf", "stopping")
				p.killKeeper()
				_ = stop.Wait()
				p.until("deaf", "stopped")
				assert.Len(t, p.left(), 1, "base goes on")
			},
		},
		{
			name: "killed, and a service ended meanwhile", promise: "it is started again, and what it left behind is not beside it",
			found: "with nothing else running no keeper followed, and what the service had left behind outlived a stop; mended", declaration: "[service.api]\nrun = \"sh -c 'setsid sleep 1000 & exec sleep 1000'\"\n",
			try: func(t *testing.T, p *project) {
				p.must("start")
				pid := p.status().Service["api"].PID
				p.killKeeper()
				require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
				p.eventually(func(s status) bool { return s.Service["api"].State == "ready" && s.Service["api"].PID != pid })
				assert.Len(t, p.left(), 2)
			},
		},
		{
			name: "gone since the machine was started anew", promise: "nothing is started by itself",
			found: "whatever had run was started again by the next keeper; mended", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				pid := p.status().Service["api"].PID
				p.killKeeper()
				require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
				path := p.state("run/state.json")
				b, err := os.ReadFile(path)
				require.NoError(t, err)
				boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(string(b), strings.TrimSpace(string(boot)), "another-boot")), 0o600))
				assert.Equal(t, "stopped", p.status().Service["api"].State)
				p.must("check")
				assert.Empty(t, p.left())
				p.must("start")
			},
		},
		{
			name: "killed, and a stranger has the pid of a service", promise: "the stranger is not signalled",
			found: "held", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				pid := p.status().Service["api"].PID
				p.killKeeper()
				require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
				require.Eventually(t, func() bool { // or its lock would tell what it is
					id, err := proc.Identify(pid)
					return err != nil || !id.Alive()
				}, patience, 10*time.Millisecond)
				stranger := exec.Command("sleep", "1000")
				require.NoError(t, stranger.Start())
				t.Cleanup(func() { _ = stranger.Process.Kill(); _ = stranger.Wait() })
				path := p.state("run/state.json")
				b, err := os.ReadFile(path)
				require.NoError(t, err)
				with := strings.Replace(string(b), fmt.Sprintf(`"pid":%d,`, pid), fmt.Sprintf(`"pid":%d,`, stranger.Process.Pid), -1)
				require.NotEqual(t, string(b), with)
				require.NoError(t, os.WriteFile(path, []byte(with), 0o600))
				p.until("api", "ready")
				p.must("stop")
				_, err = proc.Identify(stranger.Process.Pid)
				assert.NoError(t, err, "it goes on")
			},
		},
		{
			name: "killed, and its state can't be read", promise: "what runs is known by its mark, ended, and started again",
			found: "held", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				p.killKeeper()
				require.NoError(t, os.WriteFile(p.state("run/state.json"), []byte("{half"), 0o600))
				p.must("start")
				assert.Len(t, p.left(), 1, "no second one beside it")
			},
		},
		{
			name: "held still for a while, as when the machine sleeps", promise: "nothing is restarted, and no line is lost",
			found: "held", declaration: endless + program("api", `health = { run = "true", every = "100ms", timeout = "500ms" }`),
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				require.NoError(t, syscall.Kill(before.Keeper.PID, syscall.SIGSTOP))
				time.Sleep(2 * time.Second)
				require.NoError(t, syscall.Kill(before.Keeper.PID, syscall.SIGCONT))
				p.eventually(func(s status) bool { return s.Service["api"].State == "ready" })
				for name, s := range p.status().Service {
					assert.Equal(t, before.Service[name].PID, s.PID)
				}
				p.must("stop")
				p.unbroken("chatty")
			},
		},
		{
			name: "ten started at the same time", promise: "one of them has the project, and each service runs once",
			found: "held", declaration: "[service.api]\nrun = \"sh -c 'echo started; exec sleep 1000'\"\n",
			try: func(t *testing.T, p *project) {
				p.together(10, "start")
				p.killKeeper()
				p.together(10, "start")
				assert.Equal(t, []string{"started"}, p.printed("api"))
				keepers, err := os.ReadFile(p.state("logs/keeper.jsonl"))
				require.NoError(t, err)
				assert.Equal(t, 2, strings.Count(string(keepers), `"msg":"keeper"`))
				p.together(5, "stop")
				assert.Empty(t, p.left())
			},
		},
		{
			name: "of an older version", promise: "a clear sentence, and the services are left alone",
			found: "held", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				p.killKeeper()
				socket := p.state("run/keeper.sock")
				require.NoError(t, os.Remove(socket))
				l, err := net.Listen("unix", socket)
				require.NoError(t, err)
				older := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
					w.Header().Set("Neighbour-Api", "0")
					w.WriteHeader(http.StatusConflict)
				})}
				go func() { _ = older.Serve(l) }()
				for _, command := range []string{"start", "stop"} {
					r := p.run(command)
					assert.Equal(t, 1, r.code)
					assert.Contains(t, r.stderr, "started by another version of Neighbour (it speaks version 0 of the interface, this program version "+api.Version+")")
				}
				assert.Len(t, p.left(), 1)
				require.NoError(t, older.Close())
			},
		},
	},
	"stop": {
		{
			name: "programs that don't end as they should", promise: "nothing of them is left",
			found: "one that took away its mark, its session and its group was left; mended: what the keeper has inherited is ended, too",
			declaration: `
[service.deaf]
run = "sh -c 'trap : TERM INT; while :; do sleep 0.1; done'"
stop = { grace = "500ms" }
[service.daemon]
run = "sh -c 'setsid sh -c \"sleep 1000 & sleep 1000 & exit 0\" & exec sleep 1000'"
[service.family]
run = "sh -c 'setsid sh -c \"trap : TERM; while :; do sleep 0.1; done\" & sleep 1000 & wait'"
stop = { grace = "500ms" }
[service.hidden]
run = "sh -c 'env -i setsid sh -c \"sleep 1000 & exit 0\" & exec sleep 1000'"
[service.gone]
run = "sh -c 'setsid sleep 1000 & exit 0'"
[service.other]
run = "sh -c 'trap : TERM INT HUP; trap \"echo bye; exit 0\" USR1; while :; do sleep 0.05; done'"
stop = { signal = "USR1" }
`,
			try: func(t *testing.T, p *project) {
				p.run("start")
				time.Sleep(300 * time.Millisecond)
				keeper := p.status().Keeper.PID
				began := time.Now()
				below := descendants(t, keeper)
				p.must("stop")
				assert.Less(t, time.Since(began), patience, "not as long as they would run")
				for _, id := range below {
					assert.False(t, id.Alive(), "pid %d is left", id.PID)
				}
				assert.Contains(t, p.printed("other"), "bye", "its own signal asked it")
			},
		},
		{
			name: "a child that holds the port after its parent's end", promise: "the port is free after the stop, and the service starts again",
			found: "held", declaration: fmt.Sprintf("[service.api]\nrun = \"sh -c '(trap : TERM; node hold.js) & exec sleep 1000'\"\nport = %d\nstop = { grace = \"500ms\" }\n", 47611),
			try: func(t *testing.T, p *project) {
				testkit.Need(t, "node")
				p.write("hold.js", `process.on("SIGTERM", () => {}); require("net").createServer().listen(Number(process.env.PORT), "127.0.0.1")`)
				p.must("start")
				p.must("stop")
				l, err := net.Listen("tcp", "127.0.0.1:47611")
				require.NoError(t, err, "the port is free")
				require.NoError(t, l.Close())
				p.must("start")
			},
		},
		{
			name: "during a start", promise: "the start ends, and nothing is left",
			found: "held", declaration: program("base", `health = { run = "false" }`) + program("top", `needs = ["base"]`),
			try: func(t *testing.T, p *project) {
				p.must("start", "--no-wait")
				p.until("base", "starting")
				began := time.Now()
				assert.Equal(t, "stopped: base, top\n", p.must("stop"))
				assert.Less(t, time.Since(began), patience)
				assert.Empty(t, p.left())
			},
		},
		{
			name: "during a stop", promise: "both come to the same end",
			found: "held", declaration: "[service.deaf]\nrun = \"sh -c 'trap : TERM; while :; do sleep 0.05; done'\"\nstop = { grace = \"1s\" }\n",
			try: func(t *testing.T, p *project) {
				p.must("start")
				p.together(3, "stop")
				assert.Empty(t, p.left())
			},
		},
	},
	"service": {
		{
			name: "ends again and again", promise: "it fails with the whole story: when, how, and its last lines",
			found:       "only the last end was told; mended",
			declaration: "[service.loop]\nrun = \"sh -c 'echo ERROR: no screws; for i in 1 2 3 4 5 6 7 8 9; do echo tidying $i; done; sleep 0.3; exit 9'\"\nhealth = { run = \"true\" }\nrestart = { most = 2, within = \"30s\" }\n",
			try: func(t *testing.T, p *project) {
				p.run("start")
				p.until("loop", "failed")
				var s struct {
					Services []struct {
						Remarks []string
						Tries   []struct {
							Began, Ended time.Time
							Reason       string
							Lines        []string
						}
					}
				}
				p.ask("/v"+api.Version+"/status", &s)
				require.Len(t, s.Services[0].Tries, 3)
				for i, try := range s.Services[0].Tries {
					assert.Regexp(t, `^exit 9 after 0\.\d s: ERROR: no screws$`, try.Reason)
					assert.InDelta(t, 0.8, try.Ended.Sub(try.Began).Seconds(), 0.6, "about as long as it says")
					assert.Equal(t, []string{"ERROR: no screws", "…", "tidying 6", "tidying 7", "tidying 8", "tidying 9"}, try.Lines, "the first error and the last lines")
					if i > 0 {
						pause := try.Began.Sub(s.Services[0].Tries[i-1].Ended)
						assert.Greater(t, pause, 50*time.Millisecond, "it backs off")
					}
				}
			},
		},
		{
			name: "hangs", promise: "its check's time limit tells, and a stop ends it",
			found: "held", declaration: fmt.Sprintf("[service.api]\nrun = [%q, \"toolshed\", \"api\"]\nhealth = { http = \"/healthz\", every = \"100ms\", timeout = \"300ms\", fails = 2 }\n", "{binary}"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				p.kill("api", syscall.SIGSTOP)
				assert.Contains(t, p.until("api", "ailing").Reason, "no answer within 300 ms")
				p.kill("api", syscall.SIGCONT)
				p.until("api", "ready")
				p.kill("api", syscall.SIGSTOP)
				p.must("stop")
				assert.Empty(t, p.left())
			},
		},
		{
			name: "is ailing", promise: "it is restarted if the declaration says so, and not otherwise",
			found: "there was no such key; it is restart.ailing now",
			declaration: program("left", `health = { run = "test ! -e worn", every = "50ms", fails = 2 }`) +
				program("cured", `health = { run = "test ! -e ill", every = "50ms", fails = 2 }`, `restart = { ailing = "300ms" }`, `prepare = [{ run = "rm -f ill" }]`),
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				// Each has a file of its own: what cures the one would cure the other before it
				// is seen to ail.
				p.write("worn", "")
				p.until("left", "ailing")
				p.write("ill", "")
				p.eventually(func(s status) bool { return s.Service["cured"].Restarts == 1 && s.Service["cured"].State == "ready" })
				require.NoError(t, os.Remove(filepath.Join(p.dir, "worn")))
				p.until("left", "ready")
				assert.Equal(t, before.Service["left"].PID, p.status().Service["left"].PID)
				assert.Regexp(t, `cured +-- its check failed for .*: exit 1`, p.must("logs", "cured", "--events"))
			},
		},
		{
			name: "comes back with another port", promise: "those that read the port are restarted with it, and the others go on",
			found:       "those that read it went on with the old one; mended",
			declaration: fmt.Sprintf("[service.base]\nrun = [%[1]q, \"toolshed\", \"shelf\"]\n[service.reader]\nrun = \"sleep 1000\"\nenv.BASE = \"${base.url}\"\n", "{binary}") + program("other", `needs = ["base"]`),
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				// Another program takes the port as soon as it is free.
				address := fmt.Sprintf("127.0.0.1:%d", before.Service["base"].Port)
				p.kill("base", syscall.SIGKILL)
				var taken net.Listener
				require.Eventually(t, func() bool { var err error; taken, err = net.Listen("tcp", address); return err == nil }, patience, time.Millisecond)
				defer taken.Close()
				p.eventually(func(s status) bool {
					return s.Service["base"].State == "ready" && s.Service["reader"].State == "ready" && s.Service["reader"].PID != before.Service["reader"].PID
				})
				now := p.status()
				assert.NotEqual(t, before.Service["base"].Port, now.Service["base"].Port)
				b, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", now.Service["reader"].PID))
				require.NoError(t, err)
				assert.Contains(t, string(b), fmt.Sprintf("BASE=http://127.0.0.1:%d", now.Service["base"].Port))
				assert.Equal(t, before.Service["other"].PID, now.Service["other"].PID)
			},
		},
		{
			name: "uses more memory than it may", promise: "it is said, with how much it uses",
			found:       "limits were not there; where the user may not make a control group, they are watched",
			declaration: "[service.big]\nrun = \"node -e 'global.a = Buffer.alloc(200 << 20, 1); setInterval(() => {}, 1000)'\"\nlimit = { memory = \"100MB\", processors = 1.5 }\n",
			try: func(t *testing.T, p *project) {
				testkit.Need(t, "node")
				p.must("start")
				require.Eventually(t, func() bool {
					return strings.Contains(p.must("logs", "--events"), "over its limit of 100 MB") || p.status().Service["big"].State == "failed"
				}, patience, 100*time.Millisecond)
				// It may have been measured while it grew.
				said := regexp.MustCompile(`uses 2\d\d(\.\d)? MB of memory, over its limit of 100 MB|it went over its memory limit of 100 MB`)
				require.Eventually(t, func() bool { return said.MatchString(p.must("status")) }, patience, 100*time.Millisecond)
			},
		},
		{
			name: "prints a gigabyte", promise: "the newest of it is kept, and the keeper stays small",
			found:       "the log grew without end until the next start; mended: its beginning is freed as it grows",
			declaration: "[service.loud]\nrun = \"sh -c 'yes a line of the shed that is printed over and over again, to no good end, until it stops | head -c 1000000000; echo; echo the end; exec sleep 1000'\"\nlog = { keep = \"20MB\" }\nhealth = { log = \"the end\", within = \"5m\" }\n",
			try: func(t *testing.T, p *project) {
				p.must("start")
				assert.Equal(t, "the end", p.printed("loud")[len(p.printed("loud"))-1])
				require.Eventually(t, func() bool {
					var st syscall.Stat_t
					require.NoError(t, syscall.Stat(p.state("logs/loud.log"), &st))
					return st.Size > 1_000_000_000 && st.Blocks*512 <= 21<<20
				}, patience, 50*time.Millisecond)
				most := 100 // MB
				if withRace {
					most = 300 // the detector keeps a shadow of what is used, and of what is only there
				}
				assert.Less(t, memory(t, p.status().Keeper.PID), most)
			},
		},
	},
	"reload": {
		{
			name: "ten thousand files change at once", promise: "one restart",
			found:       "reload was not carried out; it is now",
			declaration: "[service.api]\nrun = \"sh -c 'echo started; exec sleep 1000'\"\nreload = [\"src/**/*.js\", \"!**/*.test.js\"]\nwrites = [\"src/out\"]\n" + "[service.web]\nrun = \"sh -c 'echo started; exec sleep 1000'\"\nneeds = [\"api\"]\n",
			try: func(t *testing.T, p *project) {
				for i := range 100 {
					p.write(fmt.Sprintf("src/d%d/f.js", i), "old")
				}
				require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "src/out"), 0o755))
				p.must("start")
				longest, last := time.Duration(0), time.Now()
				for i := range 10_000 {
					p.write(fmt.Sprintf("src/d%d/f%d.js", i%200, i/200), "new")
					longest, last = max(longest, time.Since(last)), time.Now()
				}
				p.eventually(func(status) bool { return len(p.printed("api")) >= 2 })
				time.Sleep(time.Second)
				restarts := len(p.printed("api")) - 1
				if longest < 100*time.Millisecond { // a pause of a busy machine makes two changes of one
					assert.Equal(t, 1, restarts)
					assert.Regexp(t, `api +-- restarts: src/d0/f0\.js and 9999 more files have changed`, p.must("logs", "api", "--events"))
				}
				assert.Equal(t, []string{"started"}, p.printed("web"), "what needs it goes on")
				for _, other := range []string{"src/a.test.js", "src/a.css", "src/out/a.js", "src/node_modules/x/a.js", "src/a.js~", "other/a.js"} {
					p.write(other, "x")
				}
				time.Sleep(700 * time.Millisecond)
				assert.Len(t, p.printed("api"), 1+restarts, "what doesn't matter restarts nothing")
				require.NoError(t, os.Rename(filepath.Join(p.dir, "src/d1/f.js"), filepath.Join(p.dir, "src/d1/g.js")))
				p.eventually(func(status) bool { return len(p.printed("api")) == 2+restarts })
			},
		},
		{
			name: "a change mends what had failed", promise: "it is started again; what is stopped stays so",
			found: "reload was not carried out; it is now", declaration: "[service.api]\nrun = \"sh api.sh\"\nreload = [\"*.sh\"]\n" + program("idle", `reload = ["*.sh"]`),
			try: func(t *testing.T, p *project) {
				p.write("api.sh", "exit 3")
				assert.Equal(t, 1, p.run("start", "api").code)
				p.write("api.sh", "exec sleep 1000")
				p.until("api", "ready")
				assert.Equal(t, "stopped", p.status().Service["idle"].State)
			},
		},
	},
	"machine": {
		{
			name: "the socket is deleted", promise: "the same keeper has a new one",
			found: "a second keeper was started and ended with \"another keeper has this project\"; mended", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				require.NoError(t, os.Remove(p.state("run/keeper.sock")))
				now := p.status()
				assert.Equal(t, before.Keeper.PID, now.Keeper.PID)
				assert.Equal(t, before.Service["api"].PID, now.Service["api"].PID)
			},
		},
		{
			name: "the folder with the project's state is deleted", promise: "services go on under the same keeper, and it is told",
			found: "the keeper went on where nobody could reach it, and another began; mended", declaration: program("api"),
			try: func(t *testing.T, p *project) {
				p.must("start")
				before := p.status()
				require.NoError(t, os.RemoveAll(p.state()))
				p.eventually(func(s status) bool { return s.Keeper != nil && s.Keeper.PID == before.Keeper.PID })
				assert.Equal(t, before.Service["api"].PID, p.status().Service["api"].PID)
				p.eventually(func(status) bool {
					return strings.Contains(p.must("logs", "--events"), "the folder "+p.state()+" was deleted while services ran")
				})
				assert.Equal(t, before.Keeper.PID, p.status().Keeper.PID)
			},
		},
		{
			name: "the project's folder is moved", promise: "its services are stopped, and in the new place it is said why",
			found: "services and keeper went on with paths that were no more; mended", declaration: "",
			try: func(t *testing.T, p *project) {
				from, to := filepath.Join(p.dir, "shed"), filepath.Join(p.dir, "barn")
				require.NoError(t, os.Mkdir(from, 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(from, "neighbour.toml"), []byte(program("api")), 0o644))
				old := &project{t: t, dir: from}
				old.must("start")
				pid := old.status().Service["api"].PID
				id, err := proc.Identify(pid)
				require.NoError(t, err)
				require.NoError(t, os.Rename(from, to))
				require.Eventually(t, func() bool { return !id.Alive() }, patience, 20*time.Millisecond)
				now := &project{t: t, dir: to}
				t.Cleanup(now.clean)
				require.Eventually(t, func() bool {
					return strings.Contains(now.status().Service["api"].Reason, "the project's folder was moved from "+from+" to "+to)
				}, patience, 50*time.Millisecond)
				now.must("start")
				assert.Empty(t, now.status().Service["api"].Reason)
			},
		},
		{
			name: "the project's folder is deleted", promise: "nothing is left running",
			found: "services and keeper went on; mended", declaration: "",
			try: func(t *testing.T, p *project) {
				dir := filepath.Join(p.dir, "shed")
				require.NoError(t, os.Mkdir(dir, 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(program("api")), 0o644))
				gone := &project{t: t, dir: dir}
				gone.must("start")
				keeper, err := proc.Identify(gone.status().Keeper.PID)
				require.NoError(t, err)
				require.NoError(t, os.RemoveAll(dir))
				require.Eventually(t, func() bool { return !keeper.Alive() && len(gone.left()) == 0 }, patience, 20*time.Millisecond)
			},
		},
		{
			name: "the disk is full, and free again", promise: "what runs goes on, it is said, and the state is saved once there is room",
			found: "the state was saved only at the next change; mended: it is tried again", declaration: "",
			try: tryFullDisk,
		},
	},
}

// Whatever goes wrong, what is promised holds.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, about := range []string{"keeper", "stop", "service", "reload", "machine"} {
		for _, f := range faults[about] {
			t.Run(about+"/"+f.name, func(t *testing.T) {
				t.Parallel()
				t.Logf("promise: %s; found: %s", f.promise, f.found)
				// The name of a test makes too long a path for a socket in it.
				dir, err := os.MkdirTemp("", "f")
				require.NoError(t, err)
				t.Cleanup(func() { _ = os.RemoveAll(dir) })
				p := newProjectIn(t, dir, strings.ReplaceAll(f.declaration, "{binary}", binary))
				f.try(t, p)
			})
		}
	}
}

func tryFullDisk(t *testing.T, p *project) {
	testkit.NeedRoot(t)
	dir := filepath.Join(p.dir, "small")
	require.NoError(t, os.Mkdir(dir, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400k", "tmpfs", dir).CombinedOutput(); err != nil {
		testkit.Lacking(t, "no small disk can be mounted: "+string(out))
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	p = newProjectIn(t, dir, program("api")+program("web"))
	p.env = []string{"CI=true"} // its state is in its folder, and so on the small disk
	full := filepath.Join(dir, "full")
	fill := func() {
		f, err := os.Create(full)
		require.NoError(t, err)
		defer f.Close()
		for err == nil {
			_, err = f.Write(make([]byte, 512))
		}
	}
	fill()
	r := p.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "no space left on device")
	require.NoError(t, os.Remove(full))
	p.must("start", "api")
	pid := p.status().Service["api"].PID
	fill()
	_ = p.run("start", "web")
	assert.Equal(t, pid, p.status().Service["api"].PID, "what runs goes on")
	warning := func() string {
		var s struct{ Warning string }
		p.ask("/v"+api.Version+"/status", &s)
		return s.Warning
	}
	// What there is may have room for a little more.
	for n := 0; n < 50 && warning() == ""; n++ {
		_ = p.run("restart", "web", "--json")
	}
	assert.Contains(t, warning(), "the state can't be saved")
	assert.Contains(t, p.run("status").stderr, "the state can't be saved")
	require.NoError(t, os.Remove(full))
	require.Eventually(t, func() bool { return warning() == "" }, patience, 50*time.Millisecond)
	p.must("start")
	p.killKeeper()
	assert.Equal(t, pid, p.status().Service["api"].PID, "the state was saved")
}
