// Bench measures what the README quotes: it runs the built program on real servers, most of it
// beside a reference in the same run, and ends with 1 where a median is beyond its limit.
//
//	go run ./internal/bench -binary bin/neighbour
//	go run ./internal/bench -json now.json -against before.json
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
)

var (
	binary = flag.String("binary", "bin/neighbour", "the built program")
	runs   = flag.Int("runs", 7, "runs of each measurement, at least 5")
	some   = flag.String("only", "", "some of these, with commas between them: start, delay, status, check, idle, demo, loud, search, many, watchers, migrations, history, data, documents, objects, gate, identity, functions, triggers, stub, snapshots, fresh, projects")

	written  = flag.String("json", "", "a `file` to write the figures to")
	against  = flag.String("against", "", "a `file` of an earlier run: what has moved since by more than both vary is told")
	document = flag.String("table", "", "a `document` whose table of figures is written anew")
)

func main() {
	flag.Parse()
	if err := bench(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func bench() error {
	path, err := filepath.Abs(*binary)
	if err != nil {
		return err
	}
	*binary = path
	if os.Getenv("BENCH_LISTEN") != "" {
		return listenLate()
	}
	if start := os.Getenv("BENCH_PRINT"); start != "" {
		return printLoud(start)
	}
	base, err := os.MkdirTemp("", "neighbour-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(base)
	os.Setenv("XDG_STATE_HOME", filepath.Join(base, "state"))
	os.Setenv("TMPDIR", base)
	var before []figure
	if *against != "" {
		if before, err = readFigures(*against); err != nil {
			return err
		}
	}
	if *document != "" { // before all that is measured
		if _, _, err := aroundTable(*document); err != nil {
			return err
		}
	}
	for _, b := range []struct {
		name string
		run  func(dir string) error
	}{{"start", benchStart}, {"delay", benchDelay}, {"status", benchStatus}, {"check", benchCheck}, {"idle", benchIdle}, {"demo", benchDemo},
		{"loud", benchLoud}, {"search", benchSearch}, {"many", benchMany}, {"watchers", benchWatchers}, {"migrations", benchMigrations}, {"history", benchHistory}, {"data", benchData}, {"documents", benchDocuments}, {"objects", benchObjects}, {"gate", benchGate}, {"identity", benchIdentity}, {"functions", benchFunctions}, {"triggers", benchTriggers}, {"stub", benchStub}, {"snapshots", benchSnapshots}, {"fresh", benchFresh}, {"projects", benchProjects}} {
		if *some != "" && !slices.Contains(strings.Split(*some, ","), b.name) {
			continue
		}
		dir := filepath.Join(base, b.name)
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
		err := b.run(dir)
		_, _ = neighbour(dir, "stop")
		if err != nil {
			return fmt.Errorf("%s: %w", b.name, err)
		}
	}
	for _, m := range moved(before, measured) {
		fmt.Println("moved: " + m)
	}
	if *written != "" {
		if err := writeFigures(*written, measured); err != nil {
			return err
		}
	}
	if *document != "" {
		if err := writeTable(*document, table(measured, time.Now(), machine())); err != nil {
			return err
		}
	}
	return beyond(measured)
}

func neighbour(dir string, args ...string) (time.Duration, error) {
	cmd := exec.Command(*binary, args...)
	cmd.Dir = dir
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	began := time.Now()
	err := cmd.Run()
	if err != nil {
		err = fmt.Errorf("neighbour %v: %w\n%s", args, err, &said)
	}
	return time.Since(began), err
}

func declare(dir, text string) error {
	return os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(text), 0o644)
}

func median(all []time.Duration) time.Duration {
	all = slices.Sorted(slices.Values(all))
	return all[len(all)/2]
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// benchStart compares a start to a shell script that starts the same servers
// by hand, in the best order, polling every 10 ms.
func benchStart(dir string) error {
	text := fmt.Sprintf(`
[service.ledger]
kind = "postgres"
databases = ["toolshed"]
[service.shelf]
kind = "redis"
[service.api]
run = [%q, "emulate", "mail", "--listen", "127.0.0.1:${api.port}", "--dir", "mail"]
needs = ["ledger", "shelf"]
`, *binary)
	if err := declare(dir, text); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil { // creates the cluster
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	ports := map[string]int{}
	for _, s := range p.Services {
		if ports[s.Name], err = p.Port(s); err != nil {
			return err
		}
	}
	if _, err := neighbour(dir, "stop"); err != nil {
		return err
	}
	script := byHand(p, ports)
	var ours, theirs []time.Duration
	for range *runs {
		took, err := neighbour(dir, "start")
		if err != nil {
			return err
		}
		ours = append(ours, took)
		if _, err := neighbour(dir, "stop"); err != nil {
			return err
		}
		if took, err = runByHand(script, 2); err != nil {
			return err
		}
		theirs = append(theirs, took)
	}
	tell("start", "`neighbour start` until PostgreSQL, Redis and a program that needs both are ready, to a shell script that starts them by hand and polls every 10 ms", atMost(1.3, "×"), sides(ours, theirs), ratios(ours, theirs)...)
	return nil
}

// byHand returns the script. It leaves the pids of what it started in a variable
// and prints them at its end.
func byHand(p *project.Project, ports map[string]int) string {
	in, err := p.Instance(p.Service("ledger"))
	if err != nil {
		panic(err)
	}
	shelf, err := p.Instance(p.Service("shelf"))
	if err != nil {
		panic(err)
	}
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		panic("no PostgreSQL")
	}
	bin := found[len(found)-1]
	as := ""
	if in.Account != nil {
		as = "setpriv --reuid=" + strconv.Itoa(in.Account.UID) + " --regid=" + strconv.Itoa(in.Account.GID) + " --clear-groups "
	}
	return fmt.Sprintf(`
cd %[1]s
%[2]s%[3]s/postgres -D %[4]s/cluster -p %[5]d -k %[6]s -c listen_addresses=127.0.0.1 >/dev/null 2>&1 & pg=$!
redis-server --port %[7]d --bind 127.0.0.1 --dir %[10]s --appendonly yes >/dev/null 2>&1 & redis=$!
until %[3]s/pg_isready -q -h 127.0.0.1 -p %[5]d; do sleep 0.01; done
until [ "$(redis-cli -p %[7]d ping 2>/dev/null)" = PONG ]; do sleep 0.01; done
%[8]s emulate mail --listen 127.0.0.1:%[9]d --dir mail >/dev/null 2>&1 & api=$!
until (exec 3<>/dev/tcp/127.0.0.1/%[9]d) 2>/dev/null; do sleep 0.01; done
echo $api $redis $pg
`, p.Dir, as, bin, in.Data, ports["ledger"], in.Run, ports["shelf"], *binary, ports["api"], shelf.Data)
}

// runByHand runs a script that prints the pids of what it has started, and
// ends those. The one at interrupted gets SIGINT.
func runByHand(script string, interrupted int) (time.Duration, error) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "bash", "-c", script)
	began := time.Now()
	out, err := cmd.Output()
	took := time.Since(began)
	if err != nil {
		return 0, fmt.Errorf("the script by hand: %w", err)
	}
	for i, f := range strings.Fields(string(out)) {
		pid, err := strconv.Atoi(f)
		if err != nil {
			return 0, err
		}
		signal := syscall.SIGTERM
		if i == interrupted {
			signal = syscall.SIGINT
		}
		if err := syscall.Kill(pid, signal); err != nil {
			return 0, err
		}
		for syscall.Kill(pid, 0) == nil {
			if id, err := proc.Identify(pid); err != nil || !id.Alive() {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	return took, nil
}

// listenLate is the service of benchDelay: it begins to listen after a while
// and notes when.
func listenLate() error {
	time.Sleep(50*time.Millisecond + rand.N(2*time.Second))
	l, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		return err
	}
	now := strconv.FormatInt(time.Now().UnixNano(), 10)
	if err := os.WriteFile(os.Getenv("BENCH_LISTEN"), []byte(now), 0o600); err != nil {
		return err
	}
	for {
		conn, err := l.Accept()
		if err != nil {
			return err
		}
		conn.Close()
	}
}

// benchDelay measures how long after a service is ready a client is told.
func benchDelay(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	const services = 10
	var b strings.Builder
	for i := range services {
		fmt.Fprintf(&b, "[service.s%d]\nrun = [%q]\nhealth = { tcp = \"127.0.0.1:${s%d.port}\" }\nenv.BENCH_LISTEN = %q\n", i, self, i, filepath.Join(dir, fmt.Sprintf("s%d.ready", i)))
	}
	if err := declare(dir, b.String()); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	p.Self = *binary
	ctx := context.Background()
	var all []time.Duration
	for range max(5, *runs/2) {
		client, err := api.Connect(ctx, p)
		if err != nil {
			return err
		}
		events, err := client.Events(ctx)
		if err != nil {
			return err
		}
		if _, err := client.Start(ctx, false); err != nil {
			return err
		}
		told := map[string]time.Time{}
		for len(told) < services {
			s, err := events.Next()
			if err != nil {
				return err
			}
			for _, st := range s.Services {
				if st.State == supervise.Failed {
					return fmt.Errorf("%s: %s", st.Name, st.Reason)
				}
				if _, known := told[st.Name]; st.State == supervise.Ready && !known {
					told[st.Name] = time.Now()
				}
			}
		}
		events.Close()
		for name, at := range told {
			b, err := os.ReadFile(filepath.Join(dir, name+".ready"))
			if err != nil {
				return err
			}
			ns, _ := strconv.ParseInt(string(b), 10, 64)
			all = append(all, at.Sub(time.Unix(0, ns)))
		}
		client.Close()
		if _, err := neighbour(dir, "stop"); err != nil {
			return err
		}
	}
	tell("delay", "from a service being ready to a client knowing it", atMost(50, "ms"), "", inMS(all...)...)
	return nil
}

// benchStatus measures the status command with 50 services.
func benchStatus(dir string) error {
	var b strings.Builder
	for i := range 50 {
		fmt.Fprintf(&b, "[service.s%02d]\nrun = \"sleep 1000\"\n", i)
	}
	if err := declare(dir, b.String()); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	var all []time.Duration
	for range *runs * 3 {
		took, err := neighbour(dir, "status")
		if err != nil {
			return err
		}
		all = append(all, took)
	}
	tell("status", "`neighbour status` as a whole process, 50 services that run", atMost(50, "ms"), "", inMS(all...)...)
	return nil
}

// benchCheck measures the check command with 50 services, of which each has a
// port, a runtime, a folder to write to, and variables that an env file has,
// too.
func benchCheck(dir string) error {
	var b, env strings.Builder
	b.WriteString("[service.shelf]\nkind = \"redis\"\n")
	for i := range 50 {
		fmt.Fprintf(&b, "[service.s%02d]\nrun = \"sleep 1000\"\nport = %d\nwrites = [\".\"]\nuses = { go = \">=1\" }\nenv.URL_%d = \"${shelf.url}\"\n", i, 21000+i, i)
		fmt.Fprintf(&env, "URL_%d=redis://localhost:1\n", i)
	}
	if err := declare(dir, b.String()); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, ".env"), []byte(env.String()), 0o644); err != nil {
		return err
	}
	var all []time.Duration
	for range *runs * 3 {
		took, err := neighbour(dir, "check")
		if err != nil {
			return err
		}
		all = append(all, took)
	}
	tell("check", "`neighbour check` as a whole process, 50 services", atMost(100, "ms"), "", inMS(all...)...)
	return nil
}

// benchIdle measures a keeper with 30 ready services that are checked every
// 2 s, over 30 s.
func benchIdle(dir string) error {
	var b strings.Builder
	for i := range 15 {
		fmt.Fprintf(&b, "[service.post%02d]\nkind = \"mail\"\nhealth = { every = \"2s\" }\n", i)
		fmt.Fprintf(&b, "[service.web%02d]\nrun = [%q, \"toolshed\", \"api\"]\nhealth = { http = \"/healthz\", every = \"2s\" }\n", i, *binary)
	}
	pid, err := startKeeper(dir, b.String())
	if err != nil {
		return err
	}
	time.Sleep(5 * time.Second) // the start is over
	const span = 30 * time.Second
	before, err := cpuOf(pid)
	if err != nil {
		return err
	}
	time.Sleep(span)
	after, err := cpuOf(pid)
	if err != nil {
		return err
	}
	t, err := proc.ReadTable()
	if err != nil {
		return err
	}
	memory := t[pid].Memory
	tell("idle/cpu", "an idle keeper, 30 services checked every 2 s, with what they use measured every 10 s: of a core", atMost(1, "%"), "", 100*(after-before).Seconds()/span.Seconds())
	tell("idle/memory", "… resident", atMost(60, "MB"), "", float64(memory)/(1<<20))
	return nil
}

// startKeeper declares and starts a project, and returns its keeper's pid.
func startKeeper(dir, declaration string) (pid int, err error) {
	if err = declare(dir, declaration); err == nil {
		_, err = neighbour(dir, "start")
	}
	if err != nil {
		return 0, err
	}
	return keeperOf(dir)
}

// keeperOf returns the pid of a project's keeper.
func keeperOf(dir string) (int, error) {
	out, err := exec.Command(*binary, "-C", dir, "status", "--json").Output()
	if err != nil {
		return 0, err
	}
	var s struct{ Keeper struct{ PID int } }
	err = json.Unmarshal(out, &s)
	return s.Keeper.PID, err
}

// cpuOf returns the processor time that a process has used.
func cpuOf(pid int) (time.Duration, error) {
	t, err := proc.ReadTable()
	if err != nil {
		return 0, err
	}
	if t[pid] == nil {
		return 0, fmt.Errorf("pid %d is gone", pid)
	}
	return t[pid].CPU, nil
}

// benchDemo measures from the command to the first complete screen.
func benchDemo(string) error {
	var all []time.Duration
	for range *runs {
		took, err := firstFrame()
		if err != nil {
			return err
		}
		all = append(all, took)
		demo := filepath.Join(os.TempDir(), fmt.Sprintf("neighbour-demo-%d", os.Getuid()))
		if _, err := neighbour(os.TempDir(), "-C", filepath.Join(demo, "toolshed"), "stop"); err != nil {
			return err
		}
		if err := os.RemoveAll(demo); err != nil {
			return err
		}
	}
	tell("demo", "`neighbour demo` until its first complete frame, the first time", atMost(300, "ms"), "", inMS(all...)...)
	return nil
}
