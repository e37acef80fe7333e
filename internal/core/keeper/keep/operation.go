package keep

import (
	"context"
	"errors"
	"fmt"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"slices"
	"strings"
	"sync"
	"time"
)

// OperationState is how far an operation is.
type OperationState string

// The states of an operation. One that waits waits for another which has some of
// its services.
const (
	OperationWaits     OperationState = "waits"
	OperationRuns      OperationState = "runs"
	OperationDone      OperationState = "done"
	OperationFailed    OperationState = "failed"
	OperationCancelled OperationState = "cancelled"
	OperationLost      OperationState = "lost" // the keeper ended before it was through
)

// OperationKind is what an operation does.
type OperationKind string

// What an operation does with its services.
const (
	Start   OperationKind = "start"
	Stop    OperationKind = "stop"
	Restart OperationKind = "restart"
	Reset   OperationKind = "reset"   // recreates their data
	Apply   OperationKind = "apply"   // a changed declaration
	Edit    OperationKind = "edit"    // the declaration's file
	Remedy  OperationKind = "remedy"  // of a finding
	Save    OperationKind = "save"    // a snapshot
	Restore OperationKind = "restore" // a snapshot
	Switch  OperationKind = "switch"  // to the data of a branch
	Errand  OperationKind = "errand"
)

// brings reports whether such an operation ends with its services ready.
func (k OperationKind) brings() bool { return k == Start || k == Restart || k == Reset }

// Over reports whether an operation has come to its end.
func (s OperationState) Over() bool { return s != OperationWaits && s != OperationRuns }

// Operation is something that takes time and changes something.
type Operation struct {
	ID   int           `json:"id"`
	Does OperationKind `json:"does"`
	// Of names its snapshot, branch or errand.
	Of       string   `json:"of,omitempty"`
	Services []string `json:"services"` // what it is about
	By       string   `json:"by"`       // who asked for it
	// Ready is how many of the services are where they are to be.
	Ready int            `json:"ready"`
	State OperationState `json:"state"`
	// Says is how far it is, if it can tell: "1.2 of 2.0 GB".
	Says   string    `json:"says,omitempty"`
	Reason string    `json:"reason,omitempty"` // why it waits, failed or was cancelled
	Began  time.Time `json:"began"`
	Ended  time.Time `json:"ended"` // zero before
}

// String says in a few words what it does to which services.
func (o Operation) String() string {
	about := strings.Join(o.Services, ", ")
	if n := len(o.Services); n > 3 {
		about = fmt.Sprintf("%d services", n)
	}
	switch {
	case about == "":
		return o.Title()
	case o.Of != "":
		return o.Title() + ": " + about
	}
	return o.Title() + " " + about
}

// Title says what it does, without its services.
func (o Operation) Title() string {
	if o.Does == Switch {
		return "switch to the data of " + o.Of
	}
	return strings.TrimSpace(string(o.Does) + " " + o.Of)
}

// askedBy is the key of who asks for something in a context.
type askedBy struct{}

// AskedBy returns a context in which operations are asked for by somebody:
// "neighbour stop, pid 812".
func AskedBy(ctx context.Context, who string) context.Context {
	return context.WithValue(ctx, askedBy{}, who)
}

func asker(ctx context.Context) string {
	if who, ok := ctx.Value(askedBy{}).(string); ok && who != "" {
		return who
	}
	return "the keeper"
}

// operations are those under way, and the latest that ended. Each has its
// services for itself as long as it stops or begins to start something; those
// that want some of the same wait, in the order of their coming. A start lets go
// of its services when it has begun, so that a stop ends it and need not wait.
type operations struct {
	mu    sync.Mutex
	last  int
	list  []*operation
	moved chan struct{} // closed and made anew when one lets go
	// tell gets all of them after each change; moved says that one has come into
	// another state, and not only further.
	tell func(all []Operation, moved bool)
}

type operation struct {
	Operation
	holds     bool // it has its services for itself
	cancelled bool
	cancel    func() // ends its waiting
	stop      func() // ends it while it runs; nil if that can't be
	// progress is how far the services of a start have come; nil for what is no start,
	// and before it has begun them.
	progress map[string]progress
}

// progress is how far a start has come with a service.
type progress struct{ settled, ready, failed bool }

func progressOf(s supervise.Status) progress {
	return progress{
		settled: s.State.Settled() || s.Blocked,
		ready:   s.State == supervise.Ready && !s.Held || s.State == supervise.Finished,
		failed:  (s.State == supervise.Failed || s.Blocked || s.Held) && !s.Optional,
	}
}

// pending reports whether a start has not come to its end with a service.
func (op *operation) pending(service string) bool {
	p, ours := op.progress[service]
	return ours && !p.settled
}

// recentOperations is how many that ended are kept.
const recentOperations = 20

func newOperations(tell func([]Operation, bool)) *operations {
	return &operations{moved: make(chan struct{}), tell: tell}
}

// begin waits until no earlier operation has or wants any of the services. It
// fails if the one who asked is gone by then, or cancelled it.
func (o *operations) begin(ctx context.Context, does OperationKind, of string, services []string) (*operation, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	op := &operation{Operation: Operation{Does: does, Of: of, Services: slices.Clone(services), By: asker(ctx), State: OperationWaits, Began: time.Now()}, cancel: cancel}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.last++
	op.ID = o.last
	o.list = append(o.list, op)
	for {
		before := o.before(op)
		if before == nil || ctx.Err() != nil {
			break
		}
		op.Reason = "for " + before.String() + " (" + before.By + ")"
		o.publish(true)
		moved := o.moved
		o.mu.Unlock()
		select {
		case <-moved:
		case <-ctx.Done():
		}
		o.mu.Lock()
	}
	if op.State == OperationCancelled {
		return nil, fmt.Errorf("operation %d, %s, was cancelled %s before it began", op.ID, op.Operation, op.Reason)
	}
	if err := ctx.Err(); err != nil {
		o.end(op, OperationCancelled, "whoever asked for it was gone before it began")
		return nil, fmt.Errorf("it was not begun: %w", err)
	}
	op.holds, op.State, op.Reason = true, OperationRuns, ""
	o.publish(true)
	return op, nil
}

// before returns an earlier operation that has or wants some of the services.
func (o *operations) before(op *operation) *operation {
	for _, other := range o.list {
		if other == op {
			return nil
		}
		if (other.holds || other.State == OperationWaits) && slices.ContainsFunc(other.Services, func(s string) bool { return slices.Contains(op.Services, s) }) {
			return other
		}
	}
	return nil
}

// release lets others have the services, and the rest of a start be followed. How
// far it has come is asked with the lock held, so that nothing is missed.
func (o *operations) release(op *operation, progress func(services []string) map[string]progress) {
	o.mu.Lock()
	defer o.mu.Unlock()
	op.holds, op.progress = false, progress(op.Services)
	close(o.moved)
	o.moved = make(chan struct{})
	o.follow(op)
	o.publish(true)
}

// finish ends an operation.
func (o *operations) finish(op *operation, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case op.cancelled:
		o.end(op, OperationCancelled, op.Reason)
	case err != nil:
		text, _, _ := strings.Cut(err.Error(), "\n")
		o.end(op, OperationFailed, text)
	default:
		op.Ready = len(op.Services)
		o.end(op, OperationDone, "")
	}
}

func (o *operations) end(op *operation, state OperationState, reason string) {
	if op.State.Over() {
		return
	}
	op.State, op.Says, op.Reason, op.Ended, op.progress = state, "", reason, time.Now(), nil
	if op.holds || state == OperationCancelled {
		op.holds = false
		close(o.moved)
		o.moved = make(chan struct{})
	}
	over := 0
	for _, other := range o.list {
		if other.State.Over() {
			over++
		}
	}
	o.list = slices.DeleteFunc(o.list, func(other *operation) bool {
		drop := over > recentOperations && other.State.Over()
		if drop {
			over--
		}
		return drop
	})
	o.publish(true)
}

// follow ends a start when all of its services have come to its end.
func (o *operations) follow(op *operation) {
	if op.State != OperationRuns || op.progress == nil {
		return
	}
	settled, failed := true, []string(nil)
	op.Ready = 0
	for _, name := range op.Services {
		p := op.progress[name]
		settled = settled && p.settled
		if p.ready {
			op.Ready++
		}
		if p.failed {
			failed = append(failed, name)
		}
	}
	switch {
	case !settled:
	case len(failed) > 0:
		o.end(op, OperationFailed, words.Join(failed)+" failed")
	default:
		o.end(op, OperationDone, "")
	}
}

// advance takes a service's new state for the starts under way.
func (o *operations) advance(s supervise.Status) {
	o.mu.Lock()
	defer o.mu.Unlock()
	any := false
	for _, op := range slices.Clone(o.list) { // one that ends may drop others
		if _, ours := op.progress[s.Name]; !ours || op.State != OperationRuns {
			continue
		}
		any = true
		op.progress[s.Name] = progressOf(s)
		o.follow(op)
	}
	if any {
		o.publish(false)
	}
}

// supersede ends the starts under way of services that are stopped.
func (o *operations) supersede(by *operation) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, op := range slices.Clone(o.list) {
		if op != by && op.State == OperationRuns && slices.ContainsFunc(op.Services, func(s string) bool { return op.pending(s) && slices.Contains(by.Services, s) }) {
			o.end(op, OperationCancelled, by.String()+" ("+by.By+")")
		}
	}
}

// publish passes the list on.
func (o *operations) publish(moved bool) {
	out := make([]Operation, len(o.list))
	for i, op := range o.list {
		out[i] = op.Operation
	}
	o.tell(out, moved)
}

// resume takes over the operations of an earlier keeper: starts go on, since
// their services do; others are lost.
func (o *operations) resume(earlier []Operation, progress func(services []string) map[string]progress) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, was := range earlier {
		op := &operation{Operation: was, cancel: func() {}}
		o.last = max(o.last, was.ID)
		o.list = append(o.list, op)
		switch {
		case was.State.Over():
		case was.State == OperationRuns && was.Does.brings():
			op.progress = progress(was.Services)
			o.follow(op)
		default:
			o.end(op, OperationLost, "the keeper ended before it was through")
		}
	}
	o.publish(true)
}

// ErrNoOperation says that there is no operation of a number.
var ErrNoOperation = errors.New("there is no such operation; neighbour operations lists them")

// CancelOperation cancels an operation. One that waits is not carried out; of a
// start, the services that are not ready yet are stopped; a stop goes on for the
// services that were asked to end, and not for others. What reads or writes the
// declaration can't be cancelled once it runs.
func (k *Keeper) CancelOperation(ctx context.Context, id int) error {
	o := k.ops
	o.mu.Lock()
	i := slices.IndexFunc(o.list, func(op *operation) bool { return op.ID == id })
	if i < 0 {
		o.mu.Unlock()
		return fmt.Errorf("%d: %w", id, ErrNoOperation)
	}
	op := o.list[i]
	why := "by " + asker(ctx)
	var stop []string
	var err error
	switch {
	case op.State.Over():
		err = fmt.Errorf("operation %d, %s, is over: %s", id, op.Operation, op.State)
	case op.State == OperationWaits:
		o.end(op, OperationCancelled, why)
		op.cancel()
	case op.progress != nil:
		for _, s := range op.Services {
			if op.pending(s) {
				stop = append(stop, s)
			}
		}
		o.end(op, OperationCancelled, why)
	case op.stop != nil:
		op.cancelled, op.Reason = true, why
		op.stop()
	case op.Does == Stop || op.Does == Restart:
		op.cancelled, op.Reason = true, why
	default:
		err = fmt.Errorf("operation %d, %s, can't be cancelled any more", id, op.Operation)
	}
	o.mu.Unlock()
	if len(stop) > 0 {
		k.stopAll(stop, nil)
	}
	return err
}

// stoppedBy says how an operation that runs can be ended.
func (o *operations) stoppedBy(op *operation, stop func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	op.stop = stop
}

// says notes how far an operation is that runs.
func (o *operations) says(op *operation, text string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if op.Says != text && !op.State.Over() {
		op.Says = text
		o.publish(false)
	}
}

// isCancelled reports whether an operation that runs was cancelled.
func (o *operations) isCancelled(op *operation) func() bool {
	return func() bool {
		o.mu.Lock()
		defer o.mu.Unlock()
		return op.cancelled
	}
}

// Operations returns those under way and the latest that ended, in the order of
// their coming.
func (k *Keeper) Operations() []Operation {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]Operation{}, k.operations...)
}
