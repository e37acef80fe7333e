// Package launch is how a declared service runs on this machine: its port, its
// preparations, its process, its checks, and why it failed. Driver is what
// package supervise leads.
package launch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/killpoint"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// Driver drives a service of a project on this machine.
type Driver struct {
	project *project.Project
	svc     *declare.Service
	kind    kind.Kind
	rules   supervise.Policy

	// moved is called when the service got another port than it had.
	moved  func()
	shared *Preparations

	mu       sync.Mutex
	instance *kind.Instance
	signal   string
	// launched is the end of the log when the process was started.
	launched int64
	match    *logMatch
	vars     map[string]string // digests of what the process was started with
	group    *proc.Group       // that bounds the process; nil: none
	applied  applied
	// provisioning is that of the latest start.
	provisioning kind.Provisioning
	reading      func() ([]migrate.File, error) // of the migrations, while the server starts
	watched      string                         // why its limits are watched, and not enforced
}

// elsewhereWithin is how long something that runs elsewhere may take to
// answer at a start: it is there, or it isn't.
const elsewhereWithin = 5 * time.Second

// New makes the driver of a service. Services that prepare alike do so once
// if they have the same preparations. When the service gets another port than
// it had, moved is called.
func New(p *project.Project, s *declare.Service, shared *Preparations, moved func()) *Driver {
	d := &Driver{project: p, svc: s, kind: p.Kind(s), signal: "TERM", shared: shared, moved: moved}
	h := declare.Health{}
	if s.Health != nil {
		h = *s.Health
	}
	once, _ := s.Settings.(interface{ RunsOnce() bool })
	d.rules = supervise.Policy{
		Every:   cmp.Or(h.Every, declare.DefaultEvery),
		Within:  cmp.Or(h.Within, declare.DefaultWithin),
		Timeout: cmp.Or(h.Timeout, declare.DefaultTimeout),
		Fails:   cmp.Or(h.Fails, declare.DefaultFails),
		Once:    once != nil && once.RunsOnce(),
		When:    cmp.Or(s.Restart.When, "crash"),
		Most:    cmp.Or(s.Restart.Most, declare.DefaultRestartMost),
		Window:  cmp.Or(s.Restart.Within, declare.DefaultRestartWithin),
		Ailing:  s.Restart.Ailing,
		Grace:   cmp.Or(s.Stop.Grace, declare.DefaultGrace),
		Signal:  s.Stop.Signal,
	}
	if info := d.kind.Info(); (info.Elsewhere || info.NoProcess) && h.Within == 0 {
		d.rules.Within = elsewhereWithin
	}
	if h.Log.Regexp != nil {
		d.match = newLogMatch(h.Log.Regexp)
	}
	return d
}

// Policy says how the service is checked, restarted and stopped.
func (d *Driver) Policy() supervise.Policy {
	p := d.rules
	d.mu.Lock()
	defer d.mu.Unlock()
	p.Signal = cmp.Or(p.Signal, d.signal)
	return p
}

// current returns the instance of the latest launch, nil before.
func (d *Driver) current() *kind.Instance {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.instance
}

// Prepare does all that comes before the process. What is refused is told
// with the lines of the declaration that it is about.
func (d *Driver) Prepare(ctx context.Context, r supervise.Request, set func(func(*supervise.Status))) error {
	err := d.makeReady(ctx, r, set)
	var f *supervise.Failure
	if err == nil || errors.As(err, &f) {
		return err
	}
	if missing, ok := err.(*kind.MissingError); ok {
		f = &supervise.Failure{Reason: missing.What(), Remarks: strings.SplitN(missing.Packages.InWords(), ": ", 2)}
		f.Remarks = append(f.Remarks, blame(d.svc, []string{f.Reason})...)
		return f
	}
	reason, output, _ := strings.Cut(err.Error(), "\n")
	f = &supervise.Failure{Reason: reason}
	if output != "" {
		f.Remarks = strings.Split(output, "\n")
	}
	f.Remarks = append(f.Remarks, refused(d.svc, err)...)
	f.Remarks = append(f.Remarks, blame(d.svc, append(f.Remarks, reason))...)
	return f
}

func (d *Driver) makeReady(ctx context.Context, r supervise.Request, set func(func(*supervise.Status))) error {
	number, err := d.findPort(ctx)
	if err != nil {
		return err
	}
	set(func(s *supervise.Status) { s.Port = number })
	in, err := d.project.Instance(d.svc)
	if err != nil {
		return err
	}
	d.project.RemoveEmptied(in)
	if err := d.project.EnsureInstanceDirs(in); err != nil {
		return fmt.Errorf("its folders can't be made: %w", err)
	}
	if in.Program, err = d.kind.Find(in); err != nil && !kind.MayBeMade(err) {
		return err
	}
	if failed := d.preparations(ctx, d.svc, r, set); failed != nil {
		return failed
	}
	if failed := d.errands(ctx, r, set); failed != nil {
		return failed
	}
	if err != nil { // what it runs may have been built just now
		if in.Program, err = d.kind.Find(in); err != nil {
			return err
		}
	}
	if err := d.project.CheckData(in); err != nil {
		return err
	}
	if err := d.project.CheckBorrowed(d.svc); err != nil {
		return err
	}
	found := check.AtStart(ctx, d.project, in)
	for _, f := range check.Stopping(found) {
		return &supervise.Failure{Reason: f.What, Remarks: []string{f.Remedy, "declared in " + f.Where}}
	}
	if err := d.tellFacts(set); err != nil {
		return err
	}
	var warnings []string
	if w, ok := d.kind.(kind.Warner); ok {
		warnings = append(warnings, w.Warn(in)...)
	}
	for _, f := range found {
		warnings = append(warnings, f.What)
	}
	if d.confine(); d.watched != "" {
		warnings = append(warnings, d.watched)
	}
	var runs []supervise.Runtime
	for _, r := range d.project.Runtimes(d.svc) {
		runs = append(runs, supervise.Runtime{Name: r.Name, Version: r.Version, Path: r.Path, For: r.For})
	}
	set(func(s *supervise.Status) {
		s.Version, s.Warnings, s.Runtimes = in.Program.Version, warnings, runs
	})
	if p, ok := d.kind.(kind.Preparer); ok {
		err := p.Prepare(ctx, in, func(step string) {
			set(func(s *supervise.Status) { s.State, s.Reason = supervise.Preparing, step })
		})
		if err != nil {
			return err
		}
	}
	if err := d.project.NoteData(in); err != nil {
		return err
	}
	d.mu.Lock()
	d.instance = in
	d.mu.Unlock()
	return nil
}

// Cause says why a process ended, or could not become ready, where its exit
// does not tell: it used too much memory, or its port was taken.
func (d *Driver) Cause(exit proc.Exit, ready bool) error {
	if err := d.killedForMemory(exit); err != nil {
		return err
	}
	if ready {
		return nil
	}
	return d.taken()
}

// ErrorLine returns the line of output since the launch that says why the
// service failed, "" if none does.
func (d *Driver) ErrorLine() string {
	d.mu.Lock()
	launched := d.launched
	d.mu.Unlock()
	return d.project.Mask(journal.Cause(d.project.LogDir(), d.svc.Name, launched))
}

// tellFacts has the status say the service's facts as they are now.
func (d *Driver) tellFacts(set func(func(*supervise.Status))) error {
	values, err := facts(d.project, d.svc)
	if err == nil {
		set(func(s *supervise.Status) { s.Facts = values })
	}
	return err
}

// Launch starts the process.
func (d *Driver) Launch(set func(func(*supervise.Status))) (supervise.Process, error) {
	in := d.current()
	if info := d.kind.Info(); info.Elsewhere || info.NoProcess {
		return newElsewhere(), d.tellFacts(set)
	}
	l, err := d.kind.Launch(in)
	if err != nil {
		return nil, err
	}
	if err := d.tellFacts(set); err != nil { // launching may have chosen other ports
		return nil, err
	}
	env, err := d.project.Environment(d.svc)
	if err != nil {
		return nil, err
	}
	path := d.project.LogFile(d.svc.Name)
	out, err := journal.Open(path, int64(d.svc.Log.Keep))
	if err != nil {
		return nil, fmt.Errorf("its log can't be written: %w", err)
	}
	defer out.Close()
	// What came before this may have taken long.
	if in.Port != 0 && !port.Free(in.Port) {
		if err := d.held(in.Port); err != nil {
			return nil, err
		}
	}
	d.mu.Lock()
	d.launched = journal.Size(path)
	d.signal = cmp.Or(l.Signal, "TERM")
	d.vars = map[string]string{}
	if d.kind.Info().InheritEnv {
		for _, v := range env {
			name, value, _ := strings.Cut(v, "=")
			d.vars[name] = project.Digest(value)
		}
	}
	for name, value := range in.Env {
		d.vars[name] = project.Digest(value)
	}
	d.mu.Unlock()
	if d.match != nil {
		d.match.reset()
	}
	lock, note, err := d.lock(in)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	killpoint.Reach("launching " + d.svc.Name)
	p, err := proc.Start(proc.Spec{
		Lock: lock,
		Argv: l.Argv, Env: append(env, l.Env...), Dir: l.Dir,
		Mark: d.project.Mark(d.svc.Name), Output: out, Account: in.Account, Group: d.confine(),
	})
	if errors.Is(err, syscall.E2BIG) {
		return nil, tooLarge(env, l.Argv[0])
	}
	if err != nil {
		return nil, fmt.Errorf("%s can't be started: %w", l.Argv[0], errors.Unwrap(err))
	}
	killpoint.Reach("launched " + d.svc.Name)
	note.ID = p.ID()
	_ = proc.WriteNote(lock, note) // the keeper saves it, too
	return p, nil
}

// Launched is what the lock of a service says of the process that holds it, for a keeper
// that finds it without having been told.
type Launched struct {
	// ID is zero until the process has begun.
	ID      proc.ID           `json:"process,omitzero"`
	Version string            `json:"version"`
	Given   map[string]string `json:"given"`
	At      time.Time         `json:"at"`
}

// lock takes the service's lock for the process that is about to begin.
func (d *Driver) lock(in *kind.Instance) (*os.File, Launched, error) {
	path := d.project.ServiceLock(d.svc.Name)
	note := Launched{Version: in.Program.Version, Given: d.Given(), At: time.Now()}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, note, err
	}
	lock, err := proc.TakeLock(path, note)
	if held := (*proc.HeldError)(nil); errors.As(err, &held) {
		return nil, note, &supervise.Failure{Reason: held.Error(), Remarks: []string{"what it holds can't be used by two at once; end that process, or stop the project, and start it again"}}
	}
	if err != nil {
		return nil, note, fmt.Errorf("its lock can't be written: %w", err)
	}
	return lock, note, nil
}

// tooLarge says which variable makes an environment too large for the system
// (execve(2), "Limits on size of arguments and environment").
func tooLarge(env []string, program string) error {
	largest, all := "", 0
	for _, v := range env {
		all += len(v)
		if len(v) > len(largest) {
			largest = v
		}
	}
	name, value, _ := strings.Cut(largest, "=")
	return fmt.Errorf("%s can't be started: its environment has %d KB, of which the variable %s has %d KB, and the system takes at most 128 KB for one; write that to a file, and give it the file's name", program, all>>10, name, len(value)>>10)
}

// Given returns digests of the variables that the process was started with: of a program all that
// it got, of a server those that are declared.
func (d *Driver) Given() map[string]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.vars
}

// Adopt goes on with a process that was started before.
func (d *Driver) Adopt(left supervise.Left) (supervise.Process, error) {
	in, err := d.project.Instance(d.svc)
	if err != nil {
		return nil, err
	}
	d.confine() // the group that it is in
	d.mu.Lock()
	defer d.mu.Unlock()
	d.instance, d.vars = in, left.Given
	if d.match != nil {
		d.match.found = d.printed(left.Status)
	}
	if in.Program, err = d.kind.Find(in); err == nil {
		if l, err := d.kind.Launch(in.AsIs()); err == nil {
			d.signal = cmp.Or(l.Signal, "TERM")
		}
	}
	return proc.Adopt(left.ID, d.project.Mark(d.svc.Name), d.project.ServiceLock(d.svc.Name))
}

// printed reports whether the line that a service's check waits for has come
// before it was adopted.
func (d *Driver) printed(s supervise.Status) bool {
	if s.State != supervise.Starting || d.match.pattern == nil {
		return true
	}
	q := journal.Query{Filter: journal.Filter{Services: []string{d.svc.Name}, Patterns: []*journal.Pattern{d.match.pattern}}, From: journal.At(s.Since), N: 1}
	a, err := journal.Read(context.Background(), d.project.LogDir(), q)
	return err == nil && len(a.Entries) > 0
}

// Starter returns the check of a service that starts, and what is to be set up
// when it is answered for the first time.
func (d *Driver) Starter() (probe.Probe, func(context.Context, func(func(*supervise.Status))) error, error) {
	check, err := d.Probe()
	k, ok := d.kind.(kind.Provisioner)
	if err != nil || !ok {
		return check, nil, err
	}
	d.mu.Lock()
	d.reading = nil // it may be of a try before
	d.mu.Unlock()
	if read := d.readMigrations(); d.svc.Scripts().Migrations.Value != "" {
		d.mu.Lock()
		d.reading = read
		d.mu.Unlock()
	}
	p := k.Provision(d.current())
	d.mu.Lock()
	d.provisioning = p
	d.mu.Unlock()
	provision := func(ctx context.Context, set func(func(*supervise.Status))) error {
		err := p.Provision(ctx, func(step string) { set(func(s *supervise.Status) { s.Reason = step }) })
		if err == nil {
			return nil
		}
		d.endProvisioning()
		return &supervise.Failure{Reason: err.Error(), Remarks: blame(d.svc, []string{err.Error()})}
	}
	if d.declaresCheck() {
		return check, provision, nil
	}
	return p, provision, nil
}

// endProvisioning lets go of what provisioning has kept for setting up.
func (d *Driver) endProvisioning() {
	d.mu.Lock()
	p := d.provisioning
	d.provisioning = nil
	d.mu.Unlock()
	if c, ok := p.(io.Closer); ok {
		go c.Close() // saying goodbye takes longer than the start should
	}
}

// LastLines returns the lines of output since the launch that tell most, and
// those of the declaration that they are about.
func (d *Driver) LastLines(n int) []string {
	d.mu.Lock()
	launched := d.launched
	d.mu.Unlock()
	out, err := journal.Telling(d.project.LogDir(), d.svc.Name, launched, n)
	if err != nil {
		return nil
	}
	for i := range out {
		out[i] = d.project.Mask(out[i])
	}
	return append(out, blame(d.svc, out)...)
}

// Notes returns what the service's kind says of its contents, and whether it
// says anything; wrong is what of them doesn't work.
func (d *Driver) Notes() (notes []string, wrong string, says bool) {
	n, ok := d.kind.(kind.Noter)
	in := d.current()
	if !ok || in == nil {
		return nil, "", false
	}
	notes, wrong = n.Notes(in)
	return notes, wrong, true
}

// Misbehaves says what the service does wrong since it was told to, "" for nothing.
func (d *Driver) Misbehaves() string {
	m, ok := d.kind.(kind.Misbehaver)
	in := d.current()
	if !ok || in == nil {
		return ""
	}
	return m.Misbehaves(in)
}

// Sees returns what is to be given the lines that the service prints; nil if
// nothing waits for them.
func (d *Driver) Sees() func(lines []byte) {
	if d.match == nil {
		return nil
	}
	return d.match.see
}
