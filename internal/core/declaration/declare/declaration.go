// Package declare reads a project's declaration, the file neighbour.toml:
// TOML 1.0 with known keys. It reports everything that is wrong with a file
// at once, each problem with its place and its remedy.
package declare

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"neighbour/internal/core/declaration/plan"
)

// FileName is the declaration's name, at the root of a project.
const FileName = "neighbour.toml"

// Declaration is a checked declaration: every reference leads somewhere, no
// service needs itself, and no two want the same port.
type Declaration struct {
	// File is the declaration's path and Dir the folder it is in, absolute.
	File, Dir string
	// Name is the project's name.
	Name string
	// Offline says that nothing may be started that is led outside this machine, other than by
	// the variables of Outside, which are written "service.VARIABLE".
	Offline bool
	Outside []Word
	// Services are sorted by name.
	Services []*Service
	// Plan orders the services by what they need, written and inferred.
	Plan *plan.Plan
	// Errands are sorted by name.
	Errands []*Errand
	// Triggers are sorted by name.
	Triggers []*Trigger
	// EnvFile is the file of variables to write; nil if none is declared.
	EnvFile *EnvFile
	// Gate is what is declared of the gate; nil if nothing is.
	Gate *Gate
	// Snapshots is what is declared of the data; nil if nothing is.
	Snapshots *Snapshots
	// Kinds are those that the project and the user declare.
	Kinds []*CustomKind
	// Profiles are the names of all profiles, sorted; Profile is the chosen
	// one, "" for none.
	Profiles []string
	Profile  string
}

// Errand is a declared one-off command.
type Errand struct {
	Name  string
	At    Position
	Run   Command         `toml:"run" doc:"the command: a line for sh, or a list of arguments"`
	With  Word            `toml:"with" doc:"the service whose folder and environment it gets"`
	About string          `toml:"about" doc:"what it is for, in a few words"`
	Env   map[string]Text `toml:"env" doc:"environment variables it gets, beside those of its service"`
	// EnvOf names the service whose env it gets, without that one's folder.
	EnvOf Word `toml:"env_of" doc:"a service whose env it gets, too, wherever it runs; its own variables go before those"`
	// Written are the needs as the file has them.
	Written []Word `toml:"needs" doc:"services that are started first if they don't run"`
	Dir     string `toml:"dir" doc:"the folder to run it in, from the declaration's; left out: that of its service"`
	Before  []Word `toml:"before" doc:"services before whose start it runs, once what it needs is ready: when it has not run yet, when a file of when has changed, or when the data it ran on is another"`
	When    []Word `toml:"when" doc:"the files it depends on, from the project's folder, for before: [\"**/migrations/*.py\"]"`
	On      Hook   `toml:"on" doc:"what makes it run by itself: { ready = \"api\" }"`
	Ask     string `toml:"ask" doc:"a question to be answered with yes before it runs"`
	// Fresh says that it runs on fresh copies, Copies on how many at once; 0 is one.
	Fresh  bool `toml:"fresh" doc:"it runs on a fresh copy of the project, which is gone afterwards"`
	Copies int  `toml:"copies" doc:"with fresh, on how many copies it runs at once; ${copy.number} tells them apart, from 1"`
	// Terminal is for what draws on the whole screen, or asks for passwords.
	Terminal bool `toml:"terminal" doc:"it gets the terminal to itself, and what it prints is not kept"`

	// Needs are the services that it needs, written or referred to, or needed by
	// the one that it runs with, sorted.
	Needs []string
}

// Hook says what happening to which service makes an errand run.
type Hook struct {
	Ready   Word `toml:"ready" doc:"the service that has become ready"`
	Failed  Word `toml:"failed" doc:"the service that has failed"`
	Stopped Word `toml:"stopped" doc:"the service that was stopped"`
	Reset   Word `toml:"reset" doc:"the service whose data was emptied"`
}

// Events returns the service of each event that is declared: "ready", "failed",
// "stopped", "reset".
func (h Hook) Events() map[string]string {
	out := map[string]string{}
	for event, w := range h.words() {
		if w.Value != "" {
			out[event] = serviceNameOf(w.Value)
		}
	}
	return out
}

func (h Hook) words() map[string]Word {
	return map[string]Word{"ready": h.Ready, "failed": h.Failed, "stopped": h.Stopped, "reset": h.Reset}
}

// Errand returns the errand of a name, nil if there is none.
func (d *Declaration) Errand(name string) *Errand {
	if i := slices.IndexFunc(d.Errands, func(e *Errand) bool { return e.Name == name }); i >= 0 {
		return d.Errands[i]
	}
	return nil
}

// Before returns the errands that run before a service starts, in the order of
// their names.
func (d *Declaration) Before(service string) []*Errand {
	var out []*Errand
	for _, e := range d.Errands {
		if slices.ContainsFunc(e.Before, func(w Word) bool { return serviceNameOf(w.Value) == service }) {
			out = append(out, e)
		}
	}
	return out
}

// WithService returns the name of the service that the errand runs with, "" if it
// runs with none.
func (e *Errand) WithService() string { return serviceNameOf(e.With.Value) }

// Seed is what fills fresh data: a file of SQL, or a command.
type Seed struct {
	File Word
	Run  Command `toml:"run" doc:"the command: a line for sh, or a list of arguments"`
	With Word    `toml:"with" doc:"the service whose folder and environment the command gets"`
}

// IsZero reports whether there is none.
func (s Seed) IsZero() bool { return s.File.Value == "" && s.Run.IsZero() }

// WithService returns the name of the service that the command runs with, "" if
// it runs with none.
func (s Seed) WithService() string { return serviceNameOf(s.With.Value) }

// Scripts is what changes a database before it is used.
type Scripts struct {
	Migrations Word // a folder
	Seed       Seed
}

// Scripter is implemented by the settings of kinds of databases.
type Scripter interface{ Scripts() Scripts }

// Service finds a service by its name, or returns nil.
func (d *Declaration) Service(name string) *Service {
	for _, s := range d.Services {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Names lists the services' names, sorted.
func (d *Declaration) Names() []string {
	names := make([]string, len(d.Services))
	for i, s := range d.Services {
		names[i] = s.Name
	}
	return names
}

// UnknownServiceError names a service that the declaration doesn't have.
type UnknownServiceError struct {
	Name    string
	Nearest string   // the name that was probably meant, or ""
	Known   []string // all names
}

func (e *UnknownServiceError) Error() string {
	if e.Nearest != "" {
		return fmt.Sprintf("there is no service %q; did you mean %q?", e.Name, e.Nearest)
	}
	return fmt.Sprintf("there is no service %q; the declaration has: %s", e.Name, list(e.Known))
}

// UnknownProfileError names a profile that the declaration doesn't have.
type UnknownProfileError struct {
	Name    string
	Nearest string   // the name that was probably meant, or ""
	Known   []string // all names
}

func (e *UnknownProfileError) Error() string {
	switch {
	case e.Nearest != "":
		return fmt.Sprintf("there is no profile %q; did you mean %q?", e.Name, e.Nearest)
	case len(e.Known) == 0:
		return fmt.Sprintf("there is no profile %q; the declaration has none", e.Name)
	}
	return fmt.Sprintf("there is no profile %q; the declaration has: %s", e.Name, list(e.Known))
}

// Check returns an *UnknownServiceError for the first name that is not a
// service's.
func (d *Declaration) Check(names ...string) error {
	for _, name := range names {
		if d.Service(name) == nil {
			return &UnknownServiceError{Name: name, Nearest: Nearest(name, d.Names()), Known: d.Names()}
		}
	}
	return nil
}

// MissingError says that a folder and those above it have no declaration.
type MissingError struct{ Dir string }

func (e *MissingError) Error() string {
	return fmt.Sprintf(`no %s in %s or a folder above it
To begin, let "neighbour init" propose one from the project's own files, or
write one there that says what your app depends on, for example:

    [project]
    name = "my-app"

    [service.database]
    kind = "postgres"

    [service.api]
    run = "node server.js"
    port = 4100
    env.DATABASE_URL = "${database.url}"

then run "neighbour start". "neighbour demo" shows a running example.`, FileName, e.Dir)
}

// Find returns the path of the declaration in dir or the nearest folder above
// it; a *MissingError if there is none.
func Find(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if info, err := os.Stat(abs); err != nil || !info.IsDir() {
		return "", fmt.Errorf("%s is not a folder", dir)
	}
	for at := abs; ; at = filepath.Dir(at) {
		path := filepath.Join(at, FileName)
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return path, nil
		}
		if at == filepath.Dir(at) {
			return "", &MissingError{Dir: abs}
		}
	}
}

// Catalogue tells what the kinds know, as far as the declaration needs it.
type Catalogue interface {
	// Kinds lists the names of all kinds.
	Kinds() []string
	// Describe tells about one kind; false if there is none of that name.
	Describe(kind string) (KindInfo, bool)
}

// KindInfo is what the declaration must know of a kind.
type KindInfo struct {
	// Settings makes an empty value of the kind's own keys: a pointer to a
	// struct with toml tags. If it implements Checker it is checked, too.
	Settings func() any
	// Facts are the names of the facts that its services offer.
	Facts []string
	// Listens says that each service of the kind has a port. A service of
	// another kind has one if it is declared or something refers to its facts.
	Listens bool
	// NoPort says that no service of the kind listens, whatever refers to it.
	NoPort bool
	// HTTP says that the fact url of its services is one of HTTP.
	HTTP bool
	// Elsewhere says that nothing is started, so that a check must be
	// declared unless the kind has one: Checked.
	Elsewhere, Checked bool
	// AnyFact says that which facts its services have is only known when they are asked for.
	AnyFact bool
	// Changes are the types of what its services tell for triggers; empty if they tell of
	// nothing. ChangesByKey says that a column must be named that grows.
	Changes      []string
	ChangesByKey bool
	// Takes says that its services can be sent messages.
	Takes bool
	// CheckMask says what is wrong with a mask of a part of what its services hold; nil if no
	// part can be struck out.
	CheckMask func(rule string) error
}

// Checker is implemented by kinds' settings that can be wrong in ways the
// types don't tell.
type Checker interface {
	// Check calls report for each problem, with the key that has it.
	Check(report func(key, message, remedy string))
}

// FactNamer is implemented by settings that make facts beside those of their
// kind.
type FactNamer interface {
	FactNames() []string
}

// FactNames returns the names of the facts of a service of the kind.
func (k KindInfo) FactNames(s *Service) []string {
	facts := slices.Clone(k.Facts)
	if n, ok := s.Settings.(FactNamer); ok {
		facts = append(facts, n.FactNames()...)
	}
	if k.HTTP {
		facts = append(facts, PublicURL)
	}
	return facts
}

// hasFact reports whether a service of the kind has a fact: one of its own, or one about the
// certificate that every server can have.
func (k KindInfo) hasFact(s *Service, fact string) bool {
	return k.AnyFact || slices.Contains(k.FactNames(s), fact) || !k.NoPort && !k.Elsewhere && slices.Contains(TLSFacts, fact)
}

// MainProgram is implemented by settings whose folder and command are the
// user's own.
type MainProgram interface {
	WorkingDir() string
}

func list(names []string) string {
	s := ""
	for i, n := range slices.Sorted(slices.Values(names)) {
		if i > 0 {
			s += ", "
		}
		s += n
	}
	return s
}
