package supervise

import (
	"context"
	"errors"
	"time"

	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/journal"
)

// Process is a service's main process, as far as its supervision deals with
// it. *proc.Process is one.
type Process interface {
	ID() proc.ID
	Done() <-chan struct{}
	Exit() proc.Exit
	// Signal asks the main process, End and KillAll all that the service
	// started.
	Signal(name string) error
	End(signal string) (int, error)
	KillAll(within time.Duration) error
}

// Driver is what a service needs of the world: everything that differs from
// service to service.
type Driver interface {
	// Prepare does all that comes before the process. It calls set to show
	// what it finds out and does.
	Prepare(ctx context.Context, r Request, set func(func(*Status))) error
	// Launch starts the process. It calls set with what is only known then.
	Launch(set func(func(*Status))) (Process, error)
	Adopt(Left) (Process, error)
	// Probe is the service's check; nil if only its process can be watched.
	Probe() (probe.Probe, error)
	// Starter is the check of a service that starts, and what there is to do
	// when it is answered for the first time; a nil function: nothing.
	Starter() (check probe.Probe, provision func(context.Context, func(func(*Status))) error, err error)
	// SetUp brings what the service holds up to date, before anybody uses it:
	// called when its check is answered and all is provisioned. If it fails the
	// service is ready all the same, and what needs it waits.
	SetUp(ctx context.Context, set func(func(*Status))) error
	// Outdated reports whether SetUp would have something to do by now.
	Outdated() bool
	// Ended is called when the service has come to rest.
	Ended()
	// Given are digests of the variables that the running process was started
	// with.
	Given() map[string]string
	// Cause says why the process ended, or could not become ready, where its
	// exit doesn't tell, as a *Failure; nil if that is not known.
	Cause(exit proc.Exit, ready bool) error
	// Foreign reports, as a *Failure, that the service's port is answered by a
	// process that isn't the service's, so that no answer tells anything about
	// the service; nil if it isn't.
	Foreign(p Process) error
	// Listens says on which addresses the service's processes listen where
	// that is not what its check asks, "" otherwise.
	Listens(p Process) string
	// ErrorLine is the line of output since the launch that says why the
	// service failed, "" if none does.
	ErrorLine() string
	// Over says that the service uses more than it may, "" if it doesn't.
	Over(percent float32, memory uint64) string
	// Misbehaves says what the service does wrong since it was told to, "" for nothing.
	Misbehaves() string
	// LastLines are the lines of output since the launch that tell most: the
	// first error and the latest, about n.
	LastLines(n int) []string
	Policy() Policy
}

// Host is whoever supervises a service together with others. Its methods are
// called while the service is not locked.
type Host interface {
	// Missing says what the service waits for, "" if it may start, and whether
	// that will not come by itself.
	Missing(service string) (reason string, blocked bool)
	// Changed is told of each change. Moved says that it matters to those that
	// wait for the service, as a new state does.
	Changed(before State, now Status, moved bool)
	// Replaced is told that the service has another process, or none any more.
	Replaced(service string)
	// Note writes an event of the service down.
	Note(service, event string, level journal.Level, text string)
}

// Policy is how a service is checked, restarted and stopped.
type Policy struct {
	Every, Within, Timeout time.Duration // of its check
	Fails                  int           // checks in a row, from which on it is ailing
	Once                   bool          // meant to end by itself
	When                   string        // to restart it: "crash", "always", "never"
	Most                   int           // restarts within the window
	Window                 time.Duration
	Ailing                 time.Duration // after which it is restarted; 0: it isn't
	Signal                 string
	Grace                  time.Duration
}

// Request is what a start was asked with.
type Request struct {
	At time.Time // when it was asked
	// Again says that a service which has run to its end is run again, Prepare,
	// that preparations run whether they are due or not.
	Again, Prepare bool
	// Crashed says that it had run until it was lost together with the keeper,
	// so that its policy for crashes holds.
	Crashed bool
}

// Failure is a reason with lines that belong to it.
type Failure struct {
	Reason  string
	Remarks []string
	// Taken says that somebody else has the service's port.
	Taken bool
}

func (f *Failure) Error() string { return f.Reason }

// Left is what of a service outlives whoever supervises it.
type Left struct {
	ID     proc.ID // of its process, zero if there is none
	Status Status
	Given  map[string]string // see Driver
}

// final reports whether waiting longer won't make a service ready.
func final(err error) bool {
	var f *probe.FinalError
	return errors.As(err, &f)
}
