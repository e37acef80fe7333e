package supervise

import (
	"fmt"
	"strings"
	"time"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
)

// State is where a service is in its life.
type State string

// The states. A service goes from stopped through waiting, preparing and
// starting to ready, and through stopping back.
const (
	Stopped   State = "stopped"
	Waiting   State = "waiting"   // for services that it needs, or for its next try
	Preparing State = "preparing" // what is done once before a start
	Starting  State = "starting"  // its process runs and its check fails so far
	Ready     State = "ready"
	Ailing    State = "ailing" // was ready, and its check fails now
	Stopping  State = "stopping"
	Failed    State = "failed"   // gave up
	Finished  State = "finished" // was to run once, and ended well
)

// Held is how a service is shown that is ready while what needs it waits; see
// Status.Held. No service is in it.
const Held State = "held"

// Settled reports whether a start has come to its end in this state.
func (s State) Settled() bool {
	return s == Ready || s == Ailing || s == Failed || s == Finished || s == Stopped
}

// Running reports whether the service may have a process in this state.
func (s State) Running() bool {
	return s == Starting || s == Ready || s == Ailing || s == Stopping
}

// Well reports whether a service in this state, as it is shown, does what it is for, or has done it.
func (s State) Well() bool { return s == Ready || s == Finished }

// Status is a service as it is now.
type Status struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	About string `json:"about"` // the kind in a few words
	State State  `json:"state"`
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
	Task Task `json:"task,omitempty"`
	// Done is what was done, or left out, on the way to its start.
	Done []Step `json:"done,omitempty"`
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
	Declared Declared `json:"declared"`
	// Command is what it runs, for a program.
	Command string `json:"command,omitempty"`
	// Runtimes are what that runs on, as it was chosen among several versions.
	Runtimes []Runtime `json:"runtimes,omitempty"`
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
	ReadyMS  float64 `json:"ready_ms"`
	Restarts int     `json:"restarts"`
	Facts    []Fact  `json:"facts"`
	Checks   Checks  `json:"checks"`
	Usage    Usage   `json:"usage"`
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
	Tries []Try `json:"tries,omitempty"`
	// Notes are what its kind says of its contents.
	Notes []string `json:"notes,omitempty"`
	// Wrong is what of its contents doesn't work, though it is ready.
	Wrong string `json:"wrong,omitempty"`
	// Lines are the latest of its output.
	Lines []journal.Line `json:"lines"`
}

// Progress returns what tells how far the start of a service is, without what
// it is and what it printed and used.
func (s Status) Progress() Status {
	var newest []journal.Line
	if n := len(s.Lines); n > 0 && s.State == Preparing {
		newest = s.Lines[n-1:]
	}
	var done []Step
	if step, under := s.UnderWay(); under {
		done = []Step{step}
	}
	return Status{
		Lines: newest,
		Name:  s.Name, State: s.State, Reason: s.Reason, Remarks: s.Remarks, Optional: s.Optional, Blocked: s.Blocked, Held: s.Held, Task: s.Task, Done: done, Trial: s.Trial, Early: s.Early,
		Port: s.Port, PID: s.PID, Since: s.Since, Began: s.Began, Until: s.Until, ReadyMS: s.ReadyMS, Restarts: s.Restarts, Warnings: s.Warnings, Opening: s.Opening,
	}
}

// Runtime is what a service's program runs on.
type Runtime struct {
	Name    string `json:"name"` // "node"
	Version string `json:"version"`
	Path    string `json:"path"`
	For     string `json:"for"` // who asked for it: "package.json"
}

// Task is what is done on the way to a start.
type Task string

// The tasks.
const (
	Migrating Task = "migrating" // its database
	Seeding   Task = "seeding"   // fresh data
	Running   Task = "running"   // an errand
)

// Step is something that was done on the way to a start, or left out.
type Step struct {
	What string  `json:"what"` // "npm ci"
	Took float64 `json:"took_ms,omitempty"`
	// Skipped says why it was left out, "" if it was done.
	Skipped string `json:"skipped,omitempty"`
	// Began is when it began, while it is under way; Usual how long it took the
	// last time, in milliseconds, 0 if that is not known.
	Began time.Time `json:"began,omitzero"`
	Usual float64   `json:"usual_ms,omitempty"`
}

// Declared is what the declaration says of a service, as far as it can be
// changed one by one.
type Declared struct {
	Port    int    `json:"port,omitempty"`
	Version string `json:"version,omitempty"`
	// Versioned says that it may have a version.
	Versioned bool `json:"versioned,omitempty"`
}

// Try is one life of a service that came to its end by itself.
type Try struct {
	Began  time.Time `json:"began"` // when its process was started
	Ended  time.Time `json:"ended"`
	Reason string    `json:"reason"` // "exit 9 after 0.3 s"
	Lines  []string  `json:"lines,omitempty"`
}

// recentTries is how many tries a status keeps.
const recentTries = 10

// Fact is a value that the service offers.
type Fact struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}

// Checks is the story of a service's checks since it was first ready.
type Checks struct {
	// None says that there is nothing to check it by: that its process runs is all that is known.
	None       bool      `json:"none,omitempty"`
	Total      int       `json:"total"`
	Failed     int       `json:"failed"`
	LastFailed time.Time `json:"last_failed"`
	// Recent are the latest checks, the newest last: how long each took in
	// milliseconds, and -1 for one that failed.
	Recent []float32 `json:"recent"`
}

// Usage is what a service's processes used, the newest last: the processor
// in percent of one core, the memory in bytes.
type Usage struct {
	CPU    []float32 `json:"cpu"`
	Memory []uint64  `json:"memory"`
}

// How many entries the stories keep.
const (
	recentChecks  = 60
	recentSamples = 60
	recentLines   = RecentLines
)

// RecentLines is how many lines of output a status keeps.
const RecentLines = 50

// Printed adds lines of output.
func (s *Status) Printed(lines []journal.Line) {
	s.Lines = push(s.Lines, recentLines, lines[max(0, len(lines)-recentLines):]...)
}

// Used adds a sample of usage.
func (s *Status) Used(percent float32, memory uint64) {
	s.Usage.CPU = push(s.Usage.CPU, recentSamples, percent)
	s.Usage.Memory = push(s.Usage.Memory, recentSamples, memory)
}

func push[T any](list []T, limit int, v ...T) []T {
	// A fresh slice: earlier ones are in the hands of clients.
	all := append(append(make([]T, 0, len(list)+len(v)), list...), v...)
	return all[max(0, len(all)-limit):]
}

// InWords says what is done, for how long, and how long that took the last time:
// "npm ci, 4.2 s of usually 12 s".
func (s Step) InWords(now time.Time) string {
	switch {
	case s.Skipped != "":
		return s.What + ": left out, " + s.Skipped
	case s.Began.IsZero():
		return s.What + ": " + words.Millis(s.Took)
	}
	text := s.What + ", " + words.Span(now.Sub(s.Began))
	if s.Usual > 0 {
		text += " of usually " + words.Millis(s.Usual)
	}
	return text
}

// Shown returns the state as it is shown: Held for a service that is ready while
// what needs it waits.
func (s Status) Shown() State { return s.State.With(s.Held) }

// With returns the state as it is shown of a service that is held, or not.
func (s State) With(held bool) State {
	if s == Ready && held {
		return Held
	}
	return s
}

// UnderWay returns the step that is being done, false if none is.
func (s Status) UnderWay() (Step, bool) {
	if n := len(s.Done); n > 0 && !s.Done[n-1].Began.IsZero() {
		return s.Done[n-1], true
	}
	return Step{}, false
}

// Sentence says in words how a service is and why.
func (s Status) Sentence(now time.Time) string {
	since := words.Span(now.Sub(s.Since))
	switch s.State {
	case Ready:
		if s.Held {
			return fmt.Sprintf("Ready for %s, and what needs it waits: %s", since, s.Reason)
		}
		text := "Ready for " + since
		if s.ReadyMS > 0 {
			text += ", after " + words.Millis(s.ReadyMS)
		}
		text += "; " + s.checksInWords(now)
		if s.Restarts > 0 {
			text += fmt.Sprintf("; restarted %s", words.Times(s.Restarts))
		}
		wrong := ""
		if s.Misbehaves != "" {
			wrong = "as it was told to, it " + s.Misbehaves
		}
		for _, more := range []string{wrong, s.Wrong, s.Over, s.Reason} {
			if more != "" {
				text += "; " + more
			}
		}
		return text
	case Ailing:
		return fmt.Sprintf("Ailing for %s: its check fails: %s; %s", since, s.Reason, s.checksInWords(now))
	case Starting:
		if s.Task != "" {
			return fmt.Sprintf("%s for %s: %s", strings.ToUpper(string(s.Task[:1]))+string(s.Task[1:]), since, s.Reason)
		}
		text := "Starting for " + since
		if s.Reason != "" {
			text += "; newest check: " + s.Reason
		}
		if !s.Until.IsZero() {
			text += "; " + words.Span(s.Until.Sub(now)) + " left"
		}
		return text
	case Preparing:
		if step, under := s.UnderWay(); under && step.Usual > 0 {
			return "Preparing: " + step.InWords(now)
		}
		return fmt.Sprintf("Preparing for %s: %s", since, s.Reason)
	case Waiting:
		if !s.Until.IsZero() {
			return fmt.Sprintf("Waiting: %s; next try in %s", s.Reason, words.Span(s.Until.Sub(now)))
		}
		return "Waiting: " + s.Reason
	case Stopping:
		return fmt.Sprintf("Stopping for %s%s", since, words.Because(s.Reason))
	case Failed:
		return fmt.Sprintf("Failed %s ago: %s", since, s.Reason)
	case Finished:
		return fmt.Sprintf("Finished %s ago, as it should%s", since, words.Because(s.Reason))
	}
	return "Stopped" + words.Because(s.Reason)
}

func (s Status) checksInWords(now time.Time) string {
	c := s.Checks
	switch {
	case c.None:
		return "it has no check"
	case c.Total == 0:
		return "not checked again yet"
	case c.Failed == 0:
		return fmt.Sprintf("%s, none failed", words.Count(c.Total, "check"))
	}
	return fmt.Sprintf("%d of %s failed, the last %s ago", c.Failed, words.Count(c.Total, "check"), words.Span(now.Sub(c.LastFailed)))
}
