package api

import (
	"time"

	"neighbour/internal/core/journal"
	"neighbour/internal/core/keep"
	"neighbour/internal/core/project"
	"neighbour/internal/core/supervise"
)

// Overview is what holds for the project as a whole, as it is sent.
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
	Operations []keep.Operation `json:"operations,omitempty"`
	// Errands are those that the declaration has.
	Errands []keep.DeclaredErrand `json:"errands,omitempty"`
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

// Snapshot is the whole project at one time, the services by step and name, as it
// is sent.
type Snapshot struct {
	Overview
	Services []Status `json:"services"`
}

// Status is how a service is, as it is sent.
type Status struct { // with the fields of supervise.Status, into which it is converted
	Name  string          `json:"name"`
	Kind  string          `json:"kind"`
	About string          `json:"about"` // the kind in a few words
	State supervise.State `json:"state"`
	// Reason says why it is in the state: what it waits for, what the newest
	// check answered, why it failed.
	Reason string `json:"reason"`
	// Remarks are lines that belong to the reason: the last lines of a
	// failed program, who holds its port.
	Remarks  []string `json:"remarks,omitempty"`
	Optional bool     `json:"optional,omitempty"`
	// Blocked says that it waits for something that will not come by itself.
	Blocked bool `json:"blocked,omitempty"`
	// Held says that it is ready, and what it holds is not as it should be, so
	// that what needs it waits.
	Held bool `json:"held,omitempty"`
	// Task says what is done in its state, where that alone doesn't tell.
	Task supervise.Task `json:"task,omitempty"`
	// Done is what was done, or left out, on the way to its start.
	Done []supervise.Step `json:"done,omitempty"`
	// Trial says that a ready service has no check, and has not run for long
	// enough to tell whether it runs as it should.
	Trial bool `json:"trial,omitempty"`
	// Early says that it failed before its process was started, or because
	// somebody else had its port.
	Early    bool     `json:"early,omitempty"`
	Needs    []string `json:"needs"`
	NeededBy []string `json:"needed_by"`
	Step     int      `json:"step"`
	Port     int      `json:"port"`
	PID      int      `json:"pid"`
	Version  string   `json:"version"`
	// Declared is what the interface may change of it.
	Declared supervise.Declared `json:"declared"`
	// Command is what it runs, for a program.
	Command string `json:"command,omitempty"`
	// Runtimes are what that runs on, as it was chosen among several versions.
	Runtimes []supervise.Runtime `json:"runtimes,omitempty"`
	// Check says how it is checked.
	Check string `json:"check"`
	// Since is when it came into the state, Began when its start began.
	Since time.Time `json:"since"`
	Began time.Time `json:"began"`
	// Until is when a start counts as failed, if it is not ready by then, or
	// when the next try begins.
	Until time.Time `json:"until"`
	// ReadyMS is how many milliseconds it took from the launch of its
	// process until it was ready; 0 before.
	ReadyMS  float64          `json:"ready_ms"`
	Restarts int              `json:"restarts"`
	Facts    []supervise.Fact `json:"facts"`
	Checks   supervise.Checks `json:"checks"`
	Usage    supervise.Usage  `json:"usage"`
	// Warnings are what is probably not meant as it is.
	Warnings []string `json:"warnings,omitempty"`
	// Opening says that its page is asked for the first time since it became ready: what comes of
	// that is a warning, if it is no page.
	Opening bool `json:"opening,omitempty"`
	// Exposed names the address on which other machines can reach it, if it
	// listens on one: "0.0.0.0:3000".
	Exposed string `json:"exposed,omitempty"`
	// Unwatched says why its files of reload are polled and not watched.
	Unwatched string `json:"unwatched,omitempty"`
	// Over says that it uses more than it may.
	Over string `json:"over,omitempty"`
	// Misbehaves is what it does wrong since it was told to.
	Misbehaves string `json:"misbehaves,omitempty"`
	// Tries are how its latest lives ended, since it was started: the story of
	// a service that was restarted, or that failed.
	Tries []supervise.Try `json:"tries,omitempty"`
	// Notes are what its kind says of its contents.
	Notes []string `json:"notes,omitempty"`
	// Wrong is what of its contents doesn't work, though it is ready.
	Wrong string `json:"wrong,omitempty"`
	// Lines are the latest of its output.
	Lines []journal.Line `json:"lines"`
}

// Sentence says how the service is in a sentence.
func (s Status) Sentence(now time.Time) string { return supervise.Status(s).Sentence(now) }

// Shown returns the state as it is shown; see supervise.Status.
func (s Status) Shown() supervise.State { return supervise.Status(s).Shown() }

// UnderWay returns the step that is being done, false if none is.
func (s Status) UnderWay() (supervise.Step, bool) { return supervise.Status(s).UnderWay() }

// snapshotOf returns a snapshot as it is sent.
func snapshotOf(s keep.Snapshot) Snapshot {
	out := Snapshot{Overview: Overview(s.Overview), Services: make([]Status, len(s.Services))}
	for i, st := range s.Services {
		out.Services[i] = Status(st)
	}
	return out
}
