package keep

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/check"
	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/port"
	"neighbour/internal/core/probe"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/project"
)

func fatal(err error) bool {
	var f *kind.FatalError
	return errors.As(err, &f)
}

// serverDriver drives a service on this machine.
type serverDriver struct {
	project *project.Project
	svc     *declare.Service
	kind    kind.Kind
	rules   policy

	// moved is called when the service got another port than it had.
	moved func()
	// shared are the preparations of all services.
	shared *sharedRuns

	mu       sync.Mutex
	instance *kind.Instance
	signal   string
	// launched is the end of the log when the process was started.
	launched int64
	match    *logMatch
	vars     map[string]string // digests of what the process was started with
	group    *proc.Group       // that bounds the process; nil: none
	watched  string            // why its limits are watched, and not enforced
}

// elsewhereWithin is how long something that runs elsewhere may take to
// answer at a start: it is there, or it isn't.
const elsewhereWithin = 5 * time.Second

func newServerDriver(p *project.Project, s *declare.Service) *serverDriver {
	d := &serverDriver{project: p, svc: s, kind: p.Kind(s), signal: "TERM"}
	h := declare.Health{}
	if s.Health != nil {
		h = *s.Health
	}
	once, _ := s.Settings.(interface{ RunsOnce() bool })
	d.rules = policy{
		every:   cmp.Or(h.Every, declare.DefaultEvery),
		within:  cmp.Or(h.Within, declare.DefaultWithin),
		timeout: cmp.Or(h.Timeout, declare.DefaultTimeout),
		fails:   cmp.Or(h.Fails, declare.DefaultFails),
		once:    once != nil && once.RunsOnce(),
		when:    cmp.Or(s.Restart.When, "crash"),
		most:    cmp.Or(s.Restart.Most, declare.DefaultRestartMost),
		window:  cmp.Or(s.Restart.Within, declare.DefaultRestartWithin),
		ailing:  s.Restart.Ailing,
		grace:   cmp.Or(s.Stop.Grace, declare.DefaultGrace),
		signal:  s.Stop.Signal,
	}
	if d.kind.Info().Elsewhere && h.Within == 0 {
		d.rules.within = elsewhereWithin
	}
	if h.Log.Regexp != nil {
		d.match = newLogMatch(h.Log.Regexp)
	}
	return d
}

func (d *serverDriver) policy() policy {
	p := d.rules
	d.mu.Lock()
	defer d.mu.Unlock()
	p.signal = cmp.Or(p.signal, d.signal)
	return p
}

// current returns the instance of the latest launch, nil before.
func (d *serverDriver) current() *kind.Instance {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.instance
}

// prepare does all that comes before the process. What is refused is told
// with the lines of the declaration that it is about.
func (d *serverDriver) prepare(ctx context.Context, r request, set func(func(*Status))) error {
	err := d.makeReady(ctx, r, set)
	var f *failure
	if err == nil || errors.As(err, &f) {
		return err
	}
	if missing, ok := err.(*kind.MissingError); ok {
		f = &failure{reason: missing.What(), remarks: strings.SplitN(missing.Packages.InWords(), ": ", 2)}
		f.remarks = append(f.remarks, blame(d.svc, []string{f.reason})...)
		return f
	}
	reason, output, _ := strings.Cut(err.Error(), "\n")
	f = &failure{reason: reason}
	if output != "" {
		f.remarks = strings.Split(output, "\n")
	}
	f.remarks = append(f.remarks, refused(d.svc, err)...)
	f.remarks = append(f.remarks, blame(d.svc, append(f.remarks, reason))...)
	return f
}

func (d *serverDriver) makeReady(ctx context.Context, r request, set func(func(*Status))) error {
	number, err := d.findPort()
	if err != nil {
		return err
	}
	set(func(s *Status) { s.Port = number })
	in, err := d.project.Instance(d.svc)
	if err != nil {
		return err
	}
	if err := d.project.EnsureInstanceDirs(in); err != nil {
		return fmt.Errorf("its folders can't be made: %w", err)
	}
	if in.Program, err = d.kind.Find(in); err != nil && !kind.MayBeMade(err) {
		return err
	}
	if failed := d.preparations(ctx, in, r, set); failed != nil {
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
	for _, f := range check.AtStart(ctx, d.project, in) {
		return &failure{reason: f.What, remarks: []string{f.Remedy, "declared in " + f.Where}}
	}
	values, err := facts(d.project, d.svc)
	if err != nil {
		return err
	}
	warnings := notYet(d.project.Declaration, d.svc)
	if w, ok := d.kind.(kind.Warner); ok {
		warnings = append(warnings, w.Warn(in)...)
	}
	if d.confine(); d.watched != "" {
		warnings = append(warnings, d.watched)
	}
	set(func(s *Status) { s.Version, s.Facts, s.Warnings = in.Program.Version, values, warnings })
	if p, ok := d.kind.(kind.Preparer); ok {
		err := p.Prepare(ctx, in, func(step string) {
			set(func(s *Status) { s.State, s.Reason = Preparing, step })
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

// findPort makes sure that the service's port is free. One that isn't
// declared is replaced by another.
func (d *serverDriver) findPort() (int, error) {
	number, err := d.project.Port(d.svc)
	if err != nil || number == 0 || port.Free(number) || d.kind.Info().Elsewhere {
		return number, err
	}
	if d.svc.Port == 0 {
		replaced, err := d.project.ReplacePort(d.svc)
		if err == nil {
			d.moved()
		}
		return replaced, err
	}
	return number, d.held(number)
}

// held describes who has the port, or why this user may not listen on it; nil
// if it is free by now.
func (d *serverDriver) held(number int) error {
	if forbidden := port.Forbidden(number); forbidden != nil {
		return &failure{reason: forbidden.Error(), remarks: []string{forbidden.Remedy(d.freePort(max(number, 8000)))}}
	}
	h := port.FindHolder(number)
	if h == nil {
		return nil // gone meanwhile
	}
	return &failure{
		reason:  fmt.Sprintf("port %d is held by %s, %s", number, h, d.project.InWords(d.project.OwnerOf(h.PID))),
		remarks: []string{fmt.Sprintf("end it, give %s another port in %s, or write port = \"any\" for any free one", d.svc.Name, declare.FileName)},
		taken:   true,
	}
}

// freePort returns a free port from a number upward, 0 if there is none.
func (d *serverDriver) freePort(from int) int {
	n, err := d.project.FreePort(from)
	if err != nil {
		return 0
	}
	return n
}

func (d *serverDriver) cause(exit proc.Exit, ready bool) error {
	if err := d.killedForMemory(exit); err != nil {
		return err
	}
	if ready {
		return nil
	}
	return d.taken()
}

// taken says who has the service's port although it was free before.
func (d *serverDriver) taken() error {
	in := d.current()
	if in == nil || in.Port == 0 || port.Free(in.Port) {
		return nil
	}
	h := port.FindHolder(in.Port)
	if h == nil || d.project.OwnerOf(h.PID) == (project.Owner{Dir: d.project.Dir, Service: d.svc.Name}) {
		return nil // a process of its own that is just ending
	}
	return d.held(in.Port)
}

// asksOwnPort reports whether the service's check asks its own port, and not
// an address that the declaration names, a command, or its output.
func (d *serverDriver) asksOwnPort() bool {
	h := d.svc.Health
	return !d.declaresCheck() || strings.HasPrefix(h.HTTP.Value, "/") || strings.Contains(h.HTTP.Value+h.TCP.Value, "${"+d.svc.Name+".")
}

// ownPIDs returns the processes of the service: the main one, and all if that one
// is not enough to tell.
func (d *serverDriver) ownPIDs(p process) []int {
	census, err := proc.TakeCensus()
	if err != nil {
		return []int{p.ID().PID}
	}
	var pids []int
	for _, id := range census.Belonging(p.ID(), proc.Mark(d.project.Dir, d.svc.Name)) {
		pids = append(pids, id.PID)
	}
	return pids
}

func (d *serverDriver) foreign(p process) error {
	in := d.current()
	if in == nil || in.Port == 0 || d.kind.Info().Elsewhere || !d.asksOwnPort() {
		return nil
	}
	uid := os.Getuid()
	if in.Account != nil {
		uid = in.Account.UID
	}
	stranger, err := port.Stranger(in.Port, uid, func(all bool) []int {
		if all {
			return d.ownPIDs(p)
		}
		return []int{p.ID().PID}
	})
	if err != nil || stranger == nil {
		return nil
	}
	return &failure{
		reason: fmt.Sprintf("port %d is held by %s, %s, which answers in place of %s", in.Port, stranger, d.project.InWords(d.project.OwnerOf(stranger.PID)), d.svc.Name),
		remarks: []string{fmt.Sprintf("end it, or give %s another port; if %s itself has it started, declare the check with a whole address: health = { tcp = \"127.0.0.1:%d\" }",
			d.svc.Name, d.svc.Name, in.Port)},
		taken: true,
	}
}

func (d *serverDriver) listens(p process) string {
	in := d.current()
	if in == nil || in.Port == 0 || d.kind.Info().Elsewhere || !d.asksOwnPort() {
		return ""
	}
	addresses, err := port.Listening(d.ownPIDs(p))
	if err != nil || len(addresses) == 0 {
		return ""
	}
	var words []string
	for _, a := range addresses {
		if int(a.Port()) == in.Port && (a.Addr().IsLoopback() || a.Addr().IsUnspecified()) {
			return "" // it listens where it is asked
		}
		words = append(words, a.String())
	}
	return fmt.Sprintf("its processes listen on %s, not on 127.0.0.1:%d", join(words), in.Port)
}

func (d *serverDriver) errorLine() string {
	d.mu.Lock()
	launched := d.launched
	d.mu.Unlock()
	return d.project.Mask(journal.Cause(d.project.LogDir(), d.svc.Name, launched))
}

func (d *serverDriver) launch() (process, error) {
	in := d.current()
	if d.kind.Info().Elsewhere {
		return newElsewhere(), nil
	}
	l, err := d.kind.Launch(in)
	if err != nil {
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
	for name, value := range in.Env {
		d.vars[name] = digest(value)
	}
	d.mu.Unlock()
	if d.match != nil {
		d.match.reset()
	}
	p, err := proc.Start(proc.Spec{
		Argv: l.Argv, Env: append(env, l.Env...), Dir: l.Dir,
		Mark: proc.Mark(d.project.Dir, d.svc.Name), Output: out, Account: in.Account, Group: d.confine(),
	})
	if errors.Is(err, syscall.E2BIG) {
		return nil, tooLarge(env, l.Argv[0])
	}
	if err != nil {
		return nil, fmt.Errorf("%s can't be started: %w", l.Argv[0], errors.Unwrap(err))
	}
	return p, nil
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

// digest stands for a value where the value itself, which may be a password,
// is not to be kept.
func digest(value string) string {
	sum := sha256.Sum256([]byte(value))
	return hex.EncodeToString(sum[:8])
}

func (d *serverDriver) given() map[string]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.vars
}

func (d *serverDriver) adopt(saved SavedService) (process, error) {
	in, err := d.project.Instance(d.svc)
	if err != nil {
		return nil, err
	}
	d.confine() // the group that it is in
	d.mu.Lock()
	defer d.mu.Unlock()
	d.instance, d.vars = in, saved.Given
	if d.match != nil {
		d.match.found = d.printed(Status(saved.Status))
	}
	if in.Program, err = d.kind.Find(in); err == nil {
		if l, err := d.kind.Launch(in); err == nil {
			d.signal = cmp.Or(l.Signal, "TERM")
		}
	}
	return proc.Adopt(saved.ID, proc.Mark(d.project.Dir, d.svc.Name))
}

// printed reports whether the line that a service's check waits for has come
// before it was adopted.
func (d *serverDriver) printed(s Status) bool {
	if s.State != Starting || d.match.pattern == nil {
		return true
	}
	q := journal.Query{Filter: journal.Filter{Services: []string{d.svc.Name}, Patterns: []*journal.Pattern{d.match.pattern}}, From: journal.At(s.Since), N: 1}
	a, err := journal.Read(context.Background(), d.project.LogDir(), q)
	return err == nil && len(a.Entries) > 0
}

func (d *serverDriver) starter() (probe.Probe, func(context.Context, func(func(*Status))) error, error) {
	check, err := d.probe()
	k, ok := d.kind.(kind.Provisioner)
	if err != nil || !ok {
		return check, nil, err
	}
	p := k.Provision(d.current())
	provision := func(ctx context.Context, set func(func(*Status))) error {
		err := p.Provision(ctx, func(step string) { set(func(s *Status) { s.Reason = step }) })
		if err == nil {
			return nil
		}
		return &failure{reason: err.Error(), remarks: blame(d.svc, []string{err.Error()})}
	}
	if d.declaresCheck() {
		return check, provision, nil
	}
	return p, provision, nil
}

func (d *serverDriver) lastLines(n int) []string {
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

// declaresCheck reports whether the declaration names a check.
func (d *serverDriver) declaresCheck() bool {
	h := d.svc.Health
	return h != nil && (h.HTTP.Value != "" || h.TCP.Value != "" || !h.Run.IsZero() || h.Log.Regexp != nil)
}

// probe returns the declared check, or else the kind's own.
func (d *serverDriver) probe() (probe.Probe, error) {
	in := d.current()
	if !d.declaresCheck() {
		return d.kind.Probe(in)
	}
	h := d.svc.Health
	switch {
	case h.HTTP.Value != "":
		f, err := in.Expand(h.HTTP.Value)
		if err != nil {
			return nil, err
		}
		address := f.Value
		check := probe.HTTP{URLs: []string{address}, Status: h.Status, Header: h.Header, Body: h.Body}
		if strings.HasPrefix(address, "/") {
			number := strconv.Itoa(in.Port)
			check.URLs = []string{"http://127.0.0.1:" + number + address, "http://[::1]:" + number + address}
		}
		return check, nil
	case h.TCP.Value != "":
		f, err := in.Expand(h.TCP.Value)
		if err == nil {
			_, _, err = net.SplitHostPort(f.Value)
		}
		return probe.TCP(f.Value), err
	case !h.Run.IsZero():
		argv, err := in.Argv(h.Run)
		if err != nil {
			return nil, err
		}
		env, err := d.project.Environment(d.svc)
		if err != nil {
			return nil, err
		}
		check := probe.Run{Argv: argv, Env: env, Dir: d.project.Dir, Attributes: in.Account.Attributes()}
		if l, err := d.kind.Launch(in); err == nil {
			check.Dir = l.Dir
		}
		return check, nil
	}
	return d.match, nil
}

// checkInWords says how a service is checked.
func checkInWords(s *declare.Service, k kind.Info, show func(string) string) string {
	h := declare.Health{}
	if s.Health != nil {
		h = *s.Health
	}
	every := ", every " + round(cmp.Or(h.Every, declare.DefaultEvery))
	once, ok := s.Settings.(interface{ RunsOnce() bool })
	switch {
	case ok && once.RunsOnce():
		return "runs to its end, with exit 0"
	case h.HTTP.Value != "":
		return "HTTP " + show(h.HTTP.Value) + every
	case h.TCP.Value != "":
		return "connection to " + show(h.TCP.Value) + every
	case !h.Run.IsZero():
		return "command " + h.Run.String() + every
	case h.Log.Regexp != nil:
		return "a line that matches " + h.Log.String()
	case k.Check != "":
		return k.Check + every
	case s.Listens:
		return "connection to its port" + every
	}
	return "that its process runs"
}
