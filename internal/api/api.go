// Package api is how interfaces talk to a project's keeper: HTTP with JSON
// over a Unix socket, events as server-sent events. docs/openapi.yaml
// describes it.
package api

import (
	"fmt"
	"time"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
)

// Version is the version of the interface, the first element of its paths.
// It changes with what clients see, which a test compares.
const Version = "4"

// versionHeader carries the version in every request and answer.
const versionHeader = "Neighbour-Api"

// byHeader says in a request who makes it.
const byHeader = "Neighbour-By"

// Keeper is what a keeper says of itself.
type Keeper struct {
	PID     int    `json:"pid"`
	Version string `json:"version"` // of the interface
	// Stale says that another keeper is about to take its place, or that the
	// declaration was changed after the keeper read it,
	// Busy that services run.
	Stale bool `json:"stale"`
	Busy  bool `json:"busy"`
	// Profile is the one that it was started with.
	Profile string `json:"profile,omitempty"`
}

// Names is the body of a request that is about services.
type Names struct {
	// Services are the names; none means all.
	Services []string `json:"services"`
	// WithNeeds includes what they need (restart only).
	WithNeeds bool `json:"with_needs,omitempty"`
	// Prepare runs preparations whether they are due or not (start and
	// restart).
	Prepare bool `json:"prepare,omitempty"`
	// Environment is that of whoever asks, NAME=value each: what is started inherits it, below
	// what is declared (start, restart and apply). Left out, the keeper's stays as it is.
	Environment []string `json:"environment,omitempty"`
}

// Rereading is the answer to a request to read the declaration again.
type Rereading struct {
	// Done says that a keeper that has read it takes this one's place. It is
	// false if that would touch services that run.
	Done    bool             `json:"done"`
	Effects []insight.Effect `json:"effects"`
}

// Remedy is a request to do something about a finding, as it was confirmed.
type Remedy struct {
	Finding string       `json:"finding"` // its id
	Action  check.Action `json:"action"`
}

// Remedied says what was done.
type Remedied struct {
	Says string `json:"says"`
}

// Done is the answer to a request that did something.
type Done struct {
	// Services are those that it touched.
	Services []string `json:"services"`
	// Began is when the start began that the request set off or joined.
	// Events with an earlier time are from before it.
	Began time.Time `json:"began"`
	// Told are those left running that need a restarted service.
	Told []string `json:"told,omitempty"`
}

// Problem is the answer to a request that could not be carried out. The
// client returns it as its error.
type Problem struct {
	Message string `json:"message"`
}

func (p *Problem) Error() string { return p.Message }

// VersionError says that client and keeper speak different versions.
type VersionError struct{ Keeper, Client string }

func (e *VersionError) Error() string {
	return fmt.Sprintf("this project's keeper was started by another version of Neighbour (it speaks version %s of the interface, this program version %s); end it with the version that started it, or end the keeper's process: its services go on, and the next command adopts them", e.Keeper, e.Client)
}
