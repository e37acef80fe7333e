package command

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
	"neighbour/internal/gate/control"
)

// Connect opens the project, checks the names and finds or starts its keeper.
// If the declaration was changed meanwhile the keeper reads it again, unless
// that would touch services that run, other than except: then that is said,
// and whole is false.
func (a *App) Connect(ctx context.Context, open func() (*project.Project, error), names, except []string) (p *project.Project, client *api.Client, whole bool, err error) {
	CollectLess(64 << 20)
	if p, err = open(); err != nil {
		return nil, nil, false, err
	}
	if err := p.Check(names...); err != nil {
		return nil, nil, false, err
	}
	if client, err = api.Connect(ctx, p); err != nil {
		return nil, nil, false, err
	}
	client, effects, whole, err := api.Refresh(ctx, p, client, except...)
	if err != nil {
		return nil, nil, false, err
	}
	if whole {
		a.sayRead(effects)
		return p, client, true, nil
	}
	if err := a.sayTouched(effects, names); err != nil {
		client.Close()
		return nil, nil, false, err
	}
	return p, client, false, nil
}

// sayRead says what a changed declaration that was read again has brought.
func (a *App) sayRead(effects []insight.Effect) {
	var changes []string
	for _, e := range effects {
		if e.Why != "" {
			changes = append(changes, fmt.Sprintf("%s (%s)", e.Service, e.Why))
		}
	}
	if len(changes) > 0 {
		fmt.Fprintf(a.Err, "%s was changed, and is read again: %s\n", declare.FileName, display.Clean(strings.Join(changes, ", ")))
	}
}

// sayTouched says which services that run a changed declaration would restart
// or stop. It fails if a named service is known to the changed one only.
func (a *App) sayTouched(effects []insight.Effect, names []string) error {
	fmt.Fprintf(a.Err, "%s was changed while services run, which go on as they were declared, since some would restart or stop:\n", declare.FileName)
	for _, e := range effects {
		if e.Does == insight.Restarts || e.Does == insight.Stops {
			fmt.Fprintf(a.Err, "    %s %s: %s\n", e.Service, e.InWords(), display.Clean(e.Why))
		}
	}
	fmt.Fprintln(a.Err, "to use it now: neighbour apply")
	for _, e := range effects {
		if slices.Contains(names, e.Service) && e.Does == insight.Starts && e.New {
			return fmt.Errorf("%s is new, and not started", e.Service)
		}
	}
	return nil
}

// gatePatience is how long the gate is waited for at most: the services are ready without it.
const gatePatience = 2 * time.Second

// awaitGate waits until the gate leads to those of the services that are ready, so that what
// comes after a start can call them by their names.
func awaitGate(ctx context.Context, p *project.Project, services map[string]api.Status) {
	if !p.UsesGate() {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, gatePatience)
	defer cancel()
	c := control.NewClient()
	defer c.Close()
	for {
		ready := func(service string) bool {
			s := services[service]
			return s.State == supervise.Ready && !s.Held
		}
		if state, err := c.State(ctx); err == nil && state.Leads(p.Dir, ready) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Millisecond):
		}
	}
}

// triggerPatience is how long the sources of triggers are waited for at most: some of their
// servers take a moment to let themselves be watched.
const triggerPatience = 5 * time.Second

// AwaitTriggers waits until the sources of the triggers are watched whose services are ready,
// so that nothing that is done next is missed.
func AwaitTriggers(ctx context.Context, p *project.Project, client *api.Client, services map[string]api.Status) {
	sources := map[string]bool{} // by trigger
	for _, t := range p.Triggers {
		name := t.On.ServiceName()
		sources[t.Name] = name == "" || services[name].State == supervise.Ready
	}
	if len(sources) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, triggerPatience)
	defer cancel()
	for {
		all, err := client.Triggers(ctx)
		if err == nil && !slices.ContainsFunc(all.Triggers, func(t keep.Trigger) bool { return sources[t.Name] && !t.Watched && t.Problem == "" }) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// errKeeperEnded is returned by follow when the keeper has ended meanwhile.
var ErrKeeperEnded = errors.New("the keeper ended meanwhile")

// Follow shows what happens after a request until each of the named services
// and all that they need is ready or will not be.
func (a *App) Follow(ctx context.Context, p *project.Project, client *api.Client, names []string, asJSON bool, request func() (api.Done, error)) error {
	d, err := request()
	if err != nil {
		return err
	}
	events, err := client.Progress(ctx)
	if err != nil {
		return err
	}
	defer events.Close()
	if len(names) == 0 {
		names = p.Names()
	}
	names = p.Plan.WithNeeds(names...)
	report := newReporter(a.Err, a.Live, names)
	defer report.stop()
	began := time.Now()
	current := map[string]api.Status{}
	gateFails, keeper := false, 0
	for {
		s, err := events.Next()
		if err != nil {
			if ctx.Err() != nil {
				report.close()
				return errors.New("no longer waiting; the start goes on (\"neighbour status\" shows it)")
			}
			return fmt.Errorf("%w: %w", ErrKeeperEnded, err)
		}
		first := len(current) == 0
		gateFails, keeper = len(s.GateProblems) > 0, s.Overview.PID
		for _, st := range s.Services {
			current[st.Name] = st
		}
		if first {
			// What the file declares by now and the keeper hasn't read is not
			// waited for.
			names = slices.DeleteFunc(names, func(n string) bool { _, known := current[n]; return !known })
			report.follow(names)
		}
		if s.Began.Before(d.Began) {
			continue // from before the request
		}
		report.show(current)
		if settled(names, current) {
			break
		}
	}
	report.close()
	took := time.Since(began)
	if err := awaitPages(ctx, client, names, current); err != nil {
		return err
	}
	for _, name := range names {
		for _, w := range current[name].Warnings {
			fmt.Fprintf(a.Err, "%s: note: %s\n", name, display.Clean(w))
		}
	}
	if !gateFails {
		awaitGate(ctx, p, current)
	}
	AwaitTriggers(ctx, p, client, current)
	if asJSON { // all that there is to tell, then
		s, err := client.Status(ctx)
		if err != nil {
			return err
		}
		for _, st := range s.Services {
			current[st.Name] = st
		}
	}
	return a.result(p, names, current, took, asJSON, keeper)
}

func settled(names []string, current map[string]api.Status) bool {
	for _, name := range names {
		if st, ok := current[name]; !ok || st.Trial || !st.State.Settled() && !st.Blocked {
			return false
		}
	}
	return true
}

// result says how a start ended. Only those that are not optional decide
// whether it worked.
func (a *App) result(p *project.Project, names []string, current map[string]api.Status, took time.Duration, asJSON bool, keeper int) error {
	ready, bad := 0, 0
	for _, name := range names {
		st := current[name]
		if st.Shown().Well() {
			ready++
			continue
		}
		if !st.Optional {
			bad++
		}
	}
	if asJSON {
		if err := a.PrintStatus(p, current, keeper); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.Out, "%s: %d of %d ready after %s\n", p.Name, ready, len(names), words.Span(took))
		if name := p.LANName(); name != "" {
			fmt.Fprintf(a.Out, "▲ lan = true: whoever is in this machine's network can open the pages of %s; the address: neighbour gate phone\n", name)
		}
	}
	if bad > 0 {
		return Silent{}
	}
	return nil
}

// pagesWait is how long a start waits for what becomes of the first pages of services: longer ones
// are told on their cards.
const pagesWait = 1500 * time.Millisecond

// awaitPages waits a moment for the first pages of services that are ready, so that what is wrong
// with them is told at once.
func awaitPages(ctx context.Context, client *api.Client, names []string, current map[string]api.Status) error {
	if !slices.ContainsFunc(names, func(n string) bool { return current[n].State == supervise.Ready && current[n].Port != 0 }) {
		return nil
	}
	pause := time.Millisecond
	for deadline := time.Now().Add(pagesWait); ; {
		s, err := client.Status(ctx)
		if err != nil {
			return err
		}
		opening := false
		for _, st := range s.Services {
			current[st.Name] = st
			opening = opening || st.Opening && slices.Contains(names, st.Name)
		}
		if !opening || time.Now().After(deadline) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
			pause = min(2*pause, 20*time.Millisecond)
		}
	}
}
