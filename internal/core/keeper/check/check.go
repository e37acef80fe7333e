// Package check finds, before anything starts, what would go wrong: what this
// machine lacks, what is held by others, and what contradicts the
// declaration. It changes nothing.
package check

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// Level says how bad a finding is.
type Level string

// The levels. What stops a start stops it for one service and what needs it.
const (
	Stops Level = "stops"
	Warns Level = "warns"
	Note  Level = "note"
)

func (l Level) rank() int { return slices.Index([]Level{Stops, Warns, Note}, l) }

// Finding is one thing that was found.
type Finding struct {
	// ID is the same each time that the same is found: "port/api".
	ID      string `json:"id"`
	Level   Level  `json:"level"`
	Service string `json:"service,omitempty"` // "": of the project
	What    string `json:"what"`
	// Where is the place in a file that it is about.
	Where string `json:"where,omitempty"`
	// Lines are those of the declaration around that place.
	Lines  []declare.SourceLine `json:"lines,omitempty"`
	Why    string               `json:"why,omitempty"` // why it matters
	Remedy string               `json:"remedy,omitempty"`
	// Packages are what to install where something is missing.
	Packages kind.Packages `json:"packages,omitzero"`
	// Actions are what Neighbour can do about it.
	Actions []Action `json:"actions,omitempty"`
}

// Action is something that Neighbour can do about a finding.
type Action struct {
	// Do tells it from the others of the finding: "use-port".
	Do string `json:"do"`
	// Label is a few words, for a key; Says exactly what will be done.
	Label string `json:"label"`
	Says  string `json:"says"`
	// Asks says that it must be confirmed, since something ends.
	Asks bool `json:"asks,omitempty"`
	// What it is done with: a port, the process that is signalled, another
	// project's service, a folder.
	Port    int     `json:"port,omitempty"`
	Process proc.ID `json:"process,omitzero"`
	Dir     string  `json:"dir,omitempty"`
	Other   string  `json:"other,omitempty"`
	// Command is a program with its arguments, blanks between them, that is to be
	// run in a terminal, where it may ask: by the interface, and not the keeper. For
	// AddPreparation it is the entry.
	Command string `json:"command,omitempty"`
}

// Declares reports whether what the action changes counts only once the declaration is read again.
func (a Action) Declares() bool { return a.Do == AdoptOutside || a.Do == AddPreparation }

// subject is what a check looks at.
type subject struct {
	*project.Project
	service *declare.Service
	in      *kind.Instance
	// running says that the service runs, so that what it has isn't in its way.
	running bool
}

func (s *subject) find(id string, level Level, key, what string) Finding {
	f := Finding{ID: id + "/" + s.service.Name, Level: level, Service: s.service.Name, Where: s.service.PlaceOf(key).String()}
	// Our errors say what is wrong, and after a semicolon what to do.
	f.What, f.Remedy, _ = strings.Cut(what, "; ")
	return f
}

// serviceChecks are made for each service, projectChecks once.
var serviceChecks = []func(context.Context, *subject) []Finding{programs, runtimes, ports, folders, preparations, commands, packages, patterns, warnings, elsewhere, borrowed, unresolved, data, outside}
var projectChecks = []func(context.Context, *project.Project) []Finding{anchor, Original, disk, openFiles, clock, environment, committed, errands, triggers, gate, branch}

// atStart are the checks that a service must pass when it starts, beside
// those that its start makes itself.
var atStart = []func(context.Context, *subject) []Finding{folders, outside}

// Seen is what a keeper sees of a service. It is all zero without one.
type Seen struct {
	// Running says that it runs, so that what it has isn't in its way.
	Running bool
	// Exposed is the address on which other machines can reach it; Unwatched,
	// why its files of reload are polled and not watched.
	Exposed, Unwatched string
	// PID is that of its process, 0 if it has none.
	PID int
	// Given are digests of the whole environment that its process was started with; nil where that
	// is not known. What the process itself makes of it, as programs that start others do, is not
	// in it.
	Given map[string]string
}

// limit is how long a check may take.
const limit = 5 * time.Second

// Run makes all checks at the same time. The worst
// comes first, then by service in the order of a start.
func Run(ctx context.Context, p *project.Project, seen func(service string) Seen) []Finding {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var mu sync.Mutex
	var all []Finding
	var wait sync.WaitGroup
	add := func(found []Finding) {
		mu.Lock()
		all = append(all, found...)
		mu.Unlock()
	}
	for _, c := range projectChecks {
		wait.Go(func() { add(c(ctx, p)) })
	}
	for _, s := range p.Services {
		now := seen(s.Name)
		wait.Go(func() { add(Service(ctx, p, s, now.Running)) })
		add(now.findings(p, s))
	}
	wait.Wait()
	slices.SortStableFunc(all, func(a, b Finding) int {
		return cmp.Or(a.Level.rank()-b.Level.rank(), p.Plan.Step(a.Service)-p.Plan.Step(b.Service), strings.Compare(a.ID, b.ID))
	})
	for i, f := range all {
		all[i].Lines = p.Excerpt(f.Where, excerptLines)
	}
	// What several services prepare alike is done once, and told once.
	told := map[string]bool{}
	return slices.DeleteFunc(all, func(f Finding) bool {
		if !strings.HasPrefix(f.ID, "prepare[") || f.Level != Note {
			return false
		}
		before := told[f.What]
		told[f.What] = true
		return before
	})
}

// excerptLines is how many lines of the declaration are shown before and after
// the place of a finding.
const excerptLines = 4

// Service makes the checks of one service. Running says that it runs, so that
// what it has isn't in its way.
func Service(ctx context.Context, p *project.Project, s *declare.Service, running bool) []Finding {
	sub := &subject{Project: p, service: s, running: running}
	var err error
	if sub.in, err = p.Instance(s); err != nil {
		return []Finding{sub.find("values", Stops, "env", err.Error())}
	}
	var out []Finding
	for _, c := range serviceChecks {
		out = append(out, c(ctx, sub)...)
	}
	for i := range out {
		// Without an optional service the start is complete.
		if s.Optional && out[i].Level == Stops {
			out[i].Level = Warns
		}
	}
	return out
}

// findings tells what of it the user should know.
func (n Seen) findings(p *project.Project, s *declare.Service) []Finding {
	sub := &subject{Project: p, service: s}
	var out []Finding
	if n.Exposed != "" {
		f := sub.find("exposed", Note, "run", "it listens on "+n.Exposed+", where other machines can reach it")
		f.Why = "whoever is in the same network can use it, with the data that it shows"
		f.Remedy = "let it listen on 127.0.0.1, unless that is meant"
		out = append(out, f)
	}
	if n.Unwatched != "" {
		f := sub.find("reload", Warns, "reload", "its files of reload are looked at every 2 s instead of being watched: "+n.Unwatched)
		f.Why = "it restarts a little later than it could, and looking takes some work"
		out = append(out, f)
	}
	return append(append(out, sub.overdue(n)...), sub.outdated(n)...)
}

// overdue says which errands would run before the service's next start, and have not before it
// began to run as it does.
func (s *subject) overdue(n Seen) []Finding {
	if n.PID == 0 {
		return nil
	}
	var out []Finding
	for _, e := range s.DueBefore(s.service.Name) {
		f := s.find("due/"+e.Name, Warns, "", "errand "+e.Name+", which goes before its start, is due: "+e.Why)
		f.Why, f.Remedy = "it runs on what was there before", "start it again: neighbour restart "+s.service.Name
		f.Actions = []Action{{Do: Restart, Label: "restart it", Says: "errand " + e.Name + " is run, and " + s.service.Name + " started again; what needs it is left running"}}
		out = append(out, f)
	}
	return out
}

// Outdated and Inherited begin the ids of findings about what a service that runs was started with:
// variables that are declared, and those of the environment.
const (
	Outdated  = "outdated"
	Inherited = "inherited"
)

// outdated says which variables a program was started with that would be others now, as when
// what they lead to has got another port meanwhile.
func (s *subject) outdated(n Seen) []Finding {
	if n.PID == 0 || !s.Kind(s.service).Info().InheritEnv {
		return nil
	}
	vars, err := s.Variables(s.service)
	if err != nil {
		return nil
	}
	has := proc.Variables(n.PID)
	var names, from []string
	given := map[string]bool{proc.MarkVariable: true, "PORT": true}
	for _, v := range vars {
		given[v.Name] = true
		if was, there := has[v.Name]; there && len(v.From) > 0 && was != v.Value {
			names, from = append(names, v.Name), append(from, v.From...)
		}
	}
	var out []Finding
	add := func(id string, level Level, names []string, why string) {
		f := s.find(id, level, "env", "it was started with another "+words.Join(names)+" than it would get now")
		f.Why, f.Remedy = why, "start it again: neighbour restart "+s.service.Name
		f.Actions = []Action{{Do: Restart, Label: "restart it", Says: s.service.Name + " is stopped and started again; what needs it is left running"}}
		out = append(out, f)
	}
	if len(names) > 0 {
		slices.Sort(from)
		add(Outdated, Warns, names, words.Join(slices.Compact(from))+" changed since; what it calls by the old value may be gone")
	}
	if names := project.OtherInherited(n.Given, func(name string) bool { return given[name] }); len(names) > 0 {
		add(Inherited, Note, names, "the latest start or restart came from a shell that has other values")
	}
	return out
}

// AtStart makes the checks that belong to the start of one service.
func AtStart(ctx context.Context, p *project.Project, in *kind.Instance) []Finding {
	sub := &subject{Project: p, service: in.Service, in: in}
	var out []Finding
	for _, c := range atStart {
		out = append(out, c(ctx, sub)...)
	}
	return out
}

// Install returns what installs all that findings miss; with yes without asking
// anything.
func Install(yes bool, all []Finding) kind.Install {
	var packages []kind.Packages
	for _, f := range all {
		packages = append(packages, f.Packages)
	}
	return kind.NewInstall(yes, packages...)
}

// ServersInWords says which packages start a server for the whole machine, "" if
// none does.
func ServersInWords(packages []string) string {
	if len(packages) == 0 {
		return ""
	}
	return "with " + words.Join(packages) + " a server of the whole machine starts at once, which takes the usual port; checks then show how it is ended for good"
}

// installation is the remedy of a finding that a package is missing.
func installation(f Finding) []Action {
	i := kind.NewInstall(false, f.Packages)
	if len(i.Argv) == 0 {
		return nil
	}
	says := "this is run in the terminal: " + i.String()
	if more := ServersInWords(i.Serving); more != "" {
		says += "; " + more
	}
	return []Action{{Do: InTerminal, Label: "install it", Says: says, Asks: true, Command: i.String()}}
}

// InstallCommand returns the command that installs all that findings miss, ""
// if there is none.
func InstallCommand(all []Finding) string {
	var packages []kind.Packages
	for _, f := range all {
		packages = append(packages, f.Packages)
	}
	return kind.InstallCommand(packages...)
}

// Stopping returns the findings that would stop a start.
func Stopping(all []Finding) []Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f Finding) bool { return f.Level != Stops })
}
