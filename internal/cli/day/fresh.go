package day

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// freshFlags are how something is run on fresh copies of the project.
type freshFlags struct {
	fresh             bool
	from, stay, junit string
	copies            int
	with              string
	yes               bool
	command           bool // what is run is no errand
}

func (f *freshFlags) asked() bool {
	return f.fresh || f.from != "" || f.stay != "" || f.junit != "" || f.copies != 0
}

// runFresh runs an errand, or a command, on fresh copies of the project.
func runFresh(ctx context.Context, a *command.App, p *project.Project, f freshFlags, argv []string) error {
	e := p.Errand(argv[0])
	switch {
	case p.Copy != "":
		return command.Misuse(fmt.Errorf("%s is a copy itself; copies are made of the project: leave --copy out", p.Copy))
	case f.command:
		if e = (&declare.Errand{Needs: p.Names()}); f.with != "" {
			if err := p.Check(f.with); err != nil {
				return err
			}
			e.Needs = []string{f.with}
		}
	case e == nil:
		return unknownErrand(p, argv[0])
	}
	n := max(f.copies, 1)
	if f.copies == 0 && e.Copies > 1 {
		n = e.Copies
	}
	switch {
	case f.copies < 0 || f.copies > declare.MostCopies:
		return command.Misuse(fmt.Errorf("--copies is 1 to %d", declare.MostCopies))
	case n > 1 && e.Terminal:
		return command.Misuse(fmt.Errorf("errand %s wants the terminal to itself, which several can't have", e.Name))
	case n > 1 && f.stay != "":
		return command.Misuse(errors.New("--keep has one copy stay; leave --copies out"))
	case f.from != "":
		if _, err := p.Snapshots().Get(f.from); err != nil {
			return err
		}
	}
	if e.Ask != "" && !f.yes {
		if ok, err := a.Confirm(e.Ask); err != nil || !ok {
			return err
		}
	}
	a.EndAbandoned(ctx, p)
	runs := make([]*freshRun, n)
	name := f.stay
	if name == "" {
		name = "fresh-" + strings.ToLower(rand.Text()[:6])
	}
	var all sync.WaitGroup
	for i := range runs {
		r := &freshRun{App: *a, name: name, number: i + 1, of: n, freshFlags: f, errand: e, argv: argv}
		if runs[i] = r; n > 1 {
			r.name = fmt.Sprintf("%s-%d", name, i+1)
			prefix := fmt.Sprintf("%d │ ", i+1)
			r.Out, r.Err = &command.Cleaner{To: &prefixing{to: os.Stdout, prefix: prefix}}, &command.Cleaner{To: &prefixing{to: os.Stderr, prefix: prefix}}
		}
		if i > 0 && runs[0].template() { // what the first has migrated is copied
			<-runs[0].migrated
		}
		if i == 0 {
			r.migrated = make(chan struct{})
		}
		all.Go(func() { r.run(ctx, p) })
	}
	all.Wait()
	if f.junit != "" {
		if err := writeJUnit(f.junit, p.Name, runs); err != nil {
			return err
		}
	}
	var err error
	for _, r := range runs {
		if r.failure != nil && err == nil {
			err = r.failure
		}
	}
	return err
}

// freshRun is what runs on one copy.
type freshRun struct {
	command.App
	freshFlags
	name       string
	number, of int
	errand     *declare.Errand
	argv       []string

	migrated chan struct{} // of the first: closed when others can begin with what it holds
	began    time.Time
	ready    time.Duration // until what it needs was ready
	took     time.Duration
	services []api.Status
	failure  error
	said     tailBuffer
}

// template reports whether copies begin with the data of an earlier one.
func (r *freshRun) template() bool { return r.from == "" }

// run makes the copy, runs what is to be run, and takes the copy away.
func (r *freshRun) run(ctx context.Context, p *project.Project) {
	defer r.Out.Flush()
	defer r.Err.Flush()
	r.began = time.Now()
	defer func() { r.took = time.Since(r.began) }()
	var once sync.Once
	begun := func() {
		if r.migrated != nil {
			once.Do(func() { close(r.migrated) })
		}
	}
	defer begun()
	c, err := p.MakeCopy(r.name, r.number)
	if err != nil {
		r.failure = err
		return
	}
	r.Dir, r.Copy = c.Home(), ""
	if r.failure = r.prepare(ctx, c); r.failure == nil {
		r.ready = time.Since(r.began)
		begun()
		r.failure = r.execute(ctx, c)
	}
	if current, _, err := api.Look(context.WithoutCancel(ctx), c); err == nil {
		for _, name := range c.Names() {
			r.services = append(r.services, current[name])
		}
	}
	if err := r.takeAway(context.WithoutCancel(ctx), p, c); err != nil && r.failure == nil {
		r.failure = err
	}
}

// prepare has all that is needed ready on the copy.
func (r *freshRun) prepare(ctx context.Context, c *project.Project) error {
	client, err := api.Connect(ctx, c)
	if err != nil {
		return err
	}
	defer client.Close()
	needs := c.Plan.WithNeeds(r.errand.Needs...)
	if len(r.errand.Needs) == 0 {
		needs = nil
	}
	template, made := "", false
	switch {
	case r.from != "":
		_, err = client.RestoreSnapshot(ctx, r.from)
	case len(needs) > 0:
		if template, err = c.Template(needs...); err == nil && template != "" {
			store := c.SnapshotsOf(template)
			if m, none := store.Get(template); none == nil && m.Whole(proc.Boot()) == nil {
				_, err = client.RestoreSnapshot(ctx, template)
				made = err == nil
			} else if none == nil {
				_ = store.Drop(template)
			}
		}
	}
	if err != nil {
		return err
	}
	if moved := c.Moved(); len(moved) > 0 {
		fmt.Fprintf(r.Err, "the copy has ports of its own: %s\n", words.Join(moved))
	}
	for _, f := range check.Original(ctx, c) {
		fmt.Fprintf(r.Err, "%s: %s; %s\n", f.Service, f.What, f.Remedy)
	}
	if err := startFor(ctx, &r.App, c, r.errand); err != nil {
		return err
	}
	if template == "" || made || r.errand.Name == "" && r.with == "" && len(needs) == 0 {
		return nil
	}
	var keeping []string
	for _, name := range needs {
		if c.KeepsData(c.Service(name)) {
			keeping = append(keeping, name)
		}
	}
	if _, err := client.SaveSnapshot(ctx, template, keeping...); err == nil {
		_ = c.PruneTemplates()
	} // without one the next migrates for itself
	return nil
}

// execute runs the errand or the command.
func (r *freshRun) execute(ctx context.Context, c *project.Project) error {
	if !r.command && r.of == 1 {
		return runErrand(ctx, &r.App, c, r.argv[0], r.argv[1:], true)
	}
	var cmd project.Command
	var err error
	if !r.command {
		if cmd, err = c.ErrandCommand(r.errand, r.argv[1:], nil); err == nil {
			cmd.Argv[0], err = cmd.Program()
		}
	} else {
		cmd.Argv, cmd.Dir = r.argv, c.Dir
		cmd.Variables, err = r.variables(ctx, c)
		if r.with != "" {
			cmd.Dir = c.WorkingDir(c.Service(r.with))
		}
	}
	if err != nil {
		return err
	}
	return r.child(cmd)
}

// variables are those that a command gets: what leads to its service, or to all that are none of
// the project's own programs.
func (r *freshRun) variables(ctx context.Context, c *project.Project) ([]project.Explained, error) {
	if r.with != "" {
		return command.WithService(ctx, c, r.with)
	}
	var out []project.Explained
	for _, s := range c.Services {
		if c.Kind(s).Info().InheritEnv {
			continue
		}
		vars, err := command.WithService(ctx, c, s.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, vars...)
	}
	return out, nil
}

// child runs a command with this process's input, if it is the only one, and output.
func (r *freshRun) child(c project.Command) error {
	r.Out.Flush()
	r.Err.Flush()
	cmd := exec.Command(c.Argv[0], c.Argv[1:]...)
	cmd.Dir, cmd.Env = c.Dir, c.Environ()
	cmd.WaitDelay = 200 * time.Millisecond // what it leaves in the background may have the output
	switch {
	case r.of == 1 && r.junit == "":
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	case r.of == 1:
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, io.MultiWriter(os.Stdout, &r.said), io.MultiWriter(os.Stderr, &r.said)
	default:
		cmd.Stdout, cmd.Stderr = io.MultiWriter(r.Out, &r.said), io.MultiWriter(r.Err, &r.said)
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-signals:
				_ = cmd.Process.Signal(s)
			case <-ended:
				return
			}
		}
	}()
	err := cmd.Wait()
	close(ended)
	if status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return command.Exit(128 + int(status.Signal()))
	}
	if code := cmd.ProcessState.ExitCode(); code != 0 {
		return command.Exit(code)
	}
	if errors.Is(err, exec.ErrWaitDelay) {
		return nil
	}
	return err
}

// takeAway ends the copy, or says how to look at it.
func (r *freshRun) takeAway(ctx context.Context, p, c *project.Project) error {
	if r.stay != "" {
		if err := c.KeepCopy(); err != nil {
			return err
		}
		fmt.Fprintf(r.Err, "the copy %s goes on; look at it: neighbour --copy %s; end it: neighbour --copy %s stop\n", c.Copy, c.Copy, c.Copy)
		return nil
	}
	if _, err := api.StopProject(ctx, c); err != nil {
		return err
	}
	if r.failure != nil {
		if to, err := keepLogs(p, c); err == nil {
			fmt.Fprintf(r.Err, "the logs of the copy are in %s\n", to)
		}
	}
	return c.RemoveCopy()
}

// mostCopiesLogs is of how many copies that failed the logs are kept.
const mostCopiesLogs = 10

// keepLogs moves the logs of a copy to the project's, and returns where they are.
func keepLogs(p, c *project.Project) (string, error) {
	all := filepath.Join(p.LogDir(), "copies")
	if err := os.MkdirAll(all, 0o700); err != nil {
		return "", err
	}
	to := filepath.Join(all, time.Now().Format("2006-01-02-150405-")+c.Copy)
	if err := os.Rename(c.LogDir(), to); err != nil {
		return "", err
	}
	old, _ := filepath.Glob(filepath.Join(all, "*"))
	for len(old) > mostCopiesLogs {
		_ = tree.Remove(old[0])
		old = old[1:]
	}
	return to, nil
}

// prefixing begins each line with what tells whose it is.
type prefixing struct {
	to      io.Writer
	prefix  string
	partial []byte
}

func (w *prefixing) Write(b []byte) (int, error) {
	w.partial = append(w.partial, b...)
	var out []byte
	for {
		line, rest, ok := bytes.Cut(w.partial, []byte("\n"))
		if !ok {
			break
		}
		out = append(append(append(out, w.prefix...), line...), '\n')
		w.partial = rest
	}
	w.partial = slices.Clone(w.partial)
	_, err := w.to.Write(out)
	return len(b), err
}

// tailBuffer keeps the end of what is written to it.
type tailBuffer struct {
	mu sync.Mutex
	b  []byte
}

// tailKept is how much of it is kept, in bytes.
const tailKept = 16 << 10

func (t *tailBuffer) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.b = append(t.b, b...)
	if n := len(t.b) - tailKept; n > 0 {
		t.b = slices.Clone(t.b[n:])
	}
	return len(b), nil
}

// junitSuite is a suite of tests in the form that JUnit has written since its Ant task, which
// servers of continuous integration read.
type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// writeJUnit writes how runs on fresh copies went: what was run, and the services that failed.
func writeJUnit(path, name string, runs []*freshRun) error {
	suite := junitSuite{Name: name}
	var whole time.Duration
	for _, r := range runs {
		class := name
		if r.of > 1 {
			class += fmt.Sprintf(".copy-%d", r.number)
		}
		whole = max(whole, r.took)
		for _, s := range r.services {
			if s.State == supervise.Failed {
				suite.Cases = append(suite.Cases, junitCase{Name: "service " + s.Name, Class: class, Time: "0.000", Failure: &junitFailure{Message: s.Reason, Text: strings.Join(s.Remarks, "\n")}})
			}
		}
		what := r.errand.Name
		if r.command {
			what = strings.Join(r.argv, " ")
		}
		c := junitCase{Name: what, Class: class, Time: seconds(r.took - r.ready)}
		if r.failure != nil {
			c.Failure = &junitFailure{Message: r.failure.Error(), Text: string(r.said.b)}
		}
		suite.Cases = append(suite.Cases, c)
	}
	suite.Tests, suite.Time = len(suite.Cases), seconds(whole)
	for _, c := range suite.Cases {
		if c.Failure != nil {
			suite.Failures++
		}
	}
	b, err := xml.MarshalIndent(struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []junitSuite
	}{Suites: []junitSuite{suite}}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append([]byte(xml.Header), append(b, '\n')...), 0o644)
}
