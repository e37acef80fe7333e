// Package keep is the keeper's core: it supervises the services of one
// project, one state machine each, and tells whoever watches.
package keep

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/plan"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/keeper/trigger"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/usage"
)

// Overview is what holds for the project as a whole.
type Overview struct {
	Project string `json:"project"`
	Dir     string `json:"dir"`
	PID     int    `json:"pid"` // the keeper's
	Profile string `json:"profile,omitempty"`
	// Began is when the latest start began; Took is how long it took until
	// every service was ready or had failed, 0 while it is under way.
	Began time.Time     `json:"began"`
	Took  time.Duration `json:"took"`
	// Changed says that the declaration's files say something else than this
	// keeper has read; Mistake, what is wrong with them.
	Changed bool   `json:"changed,omitempty"`
	Mistake string `json:"mistake,omitempty"`
	// Unknown lists the commands that a start would execute and that were not
	// part of the project when its user last started it; First says that he
	// never did.
	Unknown []string `json:"unknown,omitempty"`
	First   bool     `json:"first,omitempty"`
	// Operations are those under way.
	Operations []Operation `json:"operations,omitempty"`
	// Errands are those that the declaration has.
	Errands []DeclaredErrand `json:"errands,omitempty"`
	// Triggers are the names of those that the declaration has.
	Triggers []string `json:"triggers,omitempty"`
	// Holding are the services into which one can look.
	Holding []string `json:"holding,omitempty"`
	// Warning is something the user should know of the keeper itself.
	Warning string `json:"warning,omitempty"`
	// Gate are the names by which services are reached, GateProblems what is wrong with
	// that. HTTPSOnly says that requests by http are sent on to https.
	Gate         []project.GateName `json:"gate,omitempty"`
	GateProblems []string           `json:"gate_problems,omitempty"`
	HTTPSOnly    bool               `json:"https_only,omitempty"`
	// Branch is of which git branch the data is, where each has its own.
	Branch project.Branch `json:"branch,omitzero"`
	// LAN is the name whose target others in this machine's network can reach, "" if none,
	// LANURL the address by which they do, as the gate tells it.
	LAN    string `json:"lan,omitempty"`
	LANURL string `json:"lan_url,omitempty"`
}

// DeclaredErrand is an errand as the declaration has it.
type DeclaredErrand struct {
	Name  string `json:"name"`
	About string `json:"about,omitempty"`
	With  string `json:"with,omitempty"` // the service that it runs with
}

// Snapshot is the whole project at one time, the services by step and name.
type Snapshot struct {
	Overview
	Services []supervise.Status `json:"services"`
}

// Keeper supervises the services of one project.
type Keeper struct {
	project *project.Project // nil in tests without a machine
	decl    *declare.Declaration
	plan    *plan.Plan
	log     *slog.Logger
	ctx     context.Context // ends with the keeper; the services go on

	services map[string]*supervise.Service
	drivers  map[string]*launch.Driver // theirs; empty in tests without a machine

	ops     *operations
	errands *errands
	looks   looks
	states  states
	trigger *trigger.Runner // nil without triggers, and before Run
	records *recorder
	history *history.DB // nil in tests without a machine
	usage   *usage.Recorder
	editing sync.Mutex // of the declaration

	mu                sync.Mutex
	watchers          map[*Watch]struct{}
	overview          Overview
	save              chan struct{}   // holds a value when the state is to be saved
	unsaved           map[string]bool // the services whose state is
	unsavedAll        bool            // all that there is
	unsavedOperations bool
	operations        []Operation       // those under way, and the latest that ended
	stateSize         int               // how much was added to the state since it was written anew, in bytes
	follower          *journal.Follower // nil before Run
	notes             *journal.Notes    // nil in tests without a machine
	forsaken          bool              // nothing is saved any more
	limited           bool              // some service has limits that may have to be watched
	restarting        map[string]bool   // services whose restart is to come
	background        sync.WaitGroup
	warnings          []warning
	switching         sync.Mutex // held by who switches the data to another branch
	usageAsked        time.Time  // when somebody last asked for usage
	last              time.Time  // when somebody last asked or watched
}

// New makes a keeper. Nothing is started, and nothing is adopted yet. When
// the context ends the supervision does; the services go on.
func New(ctx context.Context, p *project.Project, log *slog.Logger) *Keeper {
	var k *Keeper
	shared, drivers := launch.NewPreparations(), map[string]*launch.Driver{}
	k = newKeeper(ctx, p.Declaration, log, func(s *declare.Service) supervise.Driver {
		drivers[s.Name] = launch.New(p, s, shared, func() { k.portMoved(s) })
		return drivers[s.Name]
	})
	k.project, k.drivers, k.notes = p, drivers, journal.OpenNotes(p.LogDir())
	k.history = history.New(p.HistoryFile(), k.damagedHistory)
	k.overview.Dir = p.Home()
	k.overview.Unknown, k.overview.First = p.News()
	k.overview.Holding = Holding(p)
	k.overview.Gate = p.GateNames()
	k.overview.HTTPSOnly = p.Gate != nil && p.Gate.HTTPSOnly
	k.overview.LAN = p.LANName()
	for name, s := range k.services {
		s.Amend(func(st *supervise.Status) { launch.Describe(p, p.Service(name), st) })
	}
	return k
}

// Rest returns how the services of a project without a keeper are: stopped, or
// as the last keeper left them.
func Rest(p *project.Project) []supervise.Status {
	saved, _ := ReadState(p)
	var out []supervise.Status
	for _, s := range p.Services {
		st := launch.AtRest(p.Declaration, s)
		launch.Describe(p, s, &st)
		if last := saved.Services[s.Name].Status; last.State == supervise.Failed || last.State == supervise.Finished {
			st.State, st.Reason, st.Remarks, st.Since, st.Tries = last.State, last.Reason, last.Remarks, last.Since, last.Tries
		} else if last.State == supervise.Stopped {
			st.Reason = last.Reason
		}
		out = append(out, st)
	}
	return out
}

func newKeeper(ctx context.Context, d *declare.Declaration, log *slog.Logger, drive func(*declare.Service) supervise.Driver) *Keeper {
	k := &Keeper{
		decl: d, plan: d.Plan, log: log, ctx: ctx, services: map[string]*supervise.Service{},
		watchers: map[*Watch]struct{}{}, save: make(chan struct{}, 1), last: time.Now(),
		overview: Overview{Project: d.Name, Dir: d.Dir, PID: os.Getpid(), Profile: d.Profile},
	}
	for _, e := range d.Errands {
		k.overview.Errands = append(k.overview.Errands, DeclaredErrand{e.Name, e.About, e.WithService()})
	}
	for _, t := range d.Triggers {
		k.overview.Triggers = append(k.overview.Triggers, t.Name)
	}
	k.restarting, k.unsaved = map[string]bool{}, map[string]bool{}
	k.ops = newOperations(k.tellOperations)
	k.errands = &errands{running: map[int64]context.CancelFunc{}}
	k.records, k.usage = newRecorder(), usage.NewRecorder()
	for _, s := range d.Services {
		k.limited = k.limited || s.Limit != (declare.Limit{})
		k.services[s.Name] = supervise.New(ctx, supervise.Config{AnyPort: s.Port == 0, Driver: drive(s), Host: host{k}, Log: log, Status: launch.AtRest(d, s)})
	}
	return k
}

// each visits the services by step and name.
func (k *Keeper) each(visit func(*supervise.Service)) {
	for _, step := range k.plan.Steps() {
		for _, name := range step {
			visit(k.services[name])
		}
	}
}

// Snapshot returns the project as it is now.
func (k *Keeper) Snapshot() Snapshot {
	k.mu.Lock()
	s := Snapshot{Overview: k.overview}
	k.mu.Unlock()
	k.each(func(u *supervise.Service) { s.Services = append(s.Services, u.Status()) })
	return s
}

// Stale reports whether the declaration was changed after this keeper read it.
func (k *Keeper) Stale() bool {
	return k.project != nil && k.project.Stale()
}

// Profile returns the profile that the keeper was started with.
func (k *Keeper) Profile() string { return k.decl.Profile }

// Home returns the folder that stands for the project, or for a copy of it.
func (k *Keeper) Home() string { return k.project.Home() }

// Busy reports whether some service runs, or is to run.
func (k *Keeper) Busy() bool {
	for _, s := range k.services {
		if s.Wanted() {
			return true
		}
	}
	return k.errands.busy()
}

// Edit changes the declaration's file. Services that run go on as they are.
func (k *Keeper) Edit(ctx context.Context, c project.Change) error {
	// The file is one, however many services are changed at a time.
	edit := func() error {
		k.editing.Lock()
		defer k.editing.Unlock()
		return k.project.Edit(c)
	}
	if err := k.during(ctx, Edit, c.Service, edit); err != nil {
		return err
	}
	k.log.Info("edit", "service", c.Service)
	k.lookAtDeclaration()
	return nil
}

// Kinds lists the kinds that a service may be of.
func (k *Keeper) Kinds() []project.Available { return k.project.AvailableKinds() }

// warning is something that is wrong, by what is.
type warning struct{ cause, text string }

// warn has everybody know of something that is wrong with the keeper itself, by its cause; ""
// says that it is over.
func (k *Keeper) warn(cause, text string) {
	k.mu.Lock()
	k.warnings = slices.DeleteFunc(k.warnings, func(w warning) bool { return w.cause == cause })
	if text != "" {
		k.warnings = append(k.warnings, warning{cause, text})
	}
	var all []string
	for _, w := range k.warnings {
		all = append(all, w.text)
	}
	k.overview.Warning = strings.Join(all, "; ")
	for w := range k.watchers {
		w.touch("")
	}
	k.mu.Unlock()
}

// TellGate has everybody know which ports the gate has, which may be others than before, what is
// wrong with the names of the project, and by which address others in this machine's network
// reach it, "" if none. Without a gate the ports are 0.
func (k *Keeper) TellGate(ports project.GatePorts, problems []string, lanURL string) {
	var names []project.GateName
	if ports != (project.GatePorts{}) {
		k.project.UseGatePorts(ports)
		names = k.project.GateNames()
		for name, s := range k.services {
			s.Amend(func(st *supervise.Status) { launch.Readdress(k.project, name, st) })
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if names != nil && !slices.Equal(names, k.overview.Gate) {
		k.overview.Gate = names
	} else if slices.Equal(problems, k.overview.GateProblems) && lanURL == k.overview.LANURL {
		return
	}
	k.overview.GateProblems, k.overview.LANURL = problems, lanURL
	for w := range k.watchers {
		w.touch("")
	}
}

// tellOperations has everybody know of the operations.
func (k *Keeper) tellOperations(all []Operation, moved bool) {
	k.mu.Lock()
	k.operations = all
	k.overview.Operations = nil
	for _, o := range all {
		if !o.State.Over() {
			k.overview.Operations = append(k.overview.Operations, o)
		}
	}
	k.unsavedOperations = k.unsavedOperations || moved
	for w := range k.watchers {
		w.touch("")
	}
	k.mu.Unlock()
	if moved {
		k.saveNow()
	}
}

// measureStart notes how long a start took when it has come to its end.
func (k *Keeper) measureStart() {
	k.mu.Lock()
	under := !k.overview.Began.IsZero() && k.overview.Took == 0
	k.mu.Unlock()
	if !under {
		return
	}
	for _, u := range k.services {
		if !u.Settled() {
			return
		}
	}
	k.mu.Lock()
	if k.overview.Took == 0 {
		k.overview.Took = time.Since(k.overview.Began)
	}
	for w := range k.watchers {
		w.touch("")
	}
	k.mu.Unlock()
}

// Run adopts what an earlier keeper left running, and then follows logs,
// measures and saves until the context of the keeper ends. It closes adopted
// when the services are as they really are.
func (k *Keeper) Run(adopted chan<- struct{}) error {
	follower, err := k.followLogs()
	if err != nil {
		close(adopted)
		return err
	}
	k.mu.Lock()
	k.follower = follower
	k.mu.Unlock()
	if err := proc.Subreap(); err != nil {
		k.log.Warn("detached processes can be found by their mark only", "why", err)
	}
	k.finishRestore()
	k.adopt()
	for _, u := range k.services {
		if u.Status().State.Running() { // the declaration may have another env file by now
			k.writeEnvFile()
			break
		}
	}
	close(adopted)
	var all sync.WaitGroup
	all.Go(func() { follower.Run(k.ctx) })
	all.Go(k.measure)
	all.Go(k.saveWhenAsked)
	all.Go(k.watchDeclaration)
	all.Go(k.watchBranch)
	all.Go(k.watchFiles)
	all.Go(k.saveStarts)
	all.Go(k.runTriggers)
	all.Wait()
	// Another keeper may take this one's place in the same process, and knows
	// nothing of what it ran.
	k.looks.close("")
	k.cancelErrands()
	k.awaitErrands(endLimit)
	k.background.Wait()
	return k.history.Close()
}

// Idle says for how long nothing has run and nobody has watched.
func (k *Keeper) Idle() time.Duration {
	if k.Busy() {
		return 0
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.watched() {
		return 0
	}
	return time.Since(k.last)
}

// Touch notes that somebody asked for something.
func (k *Keeper) Touch() {
	k.mu.Lock()
	k.last = time.Now()
	k.mu.Unlock()
}

// ErrClosed is returned by a watch whose keeper has ended.
var ErrClosed = errors.New("the keeper has ended")
