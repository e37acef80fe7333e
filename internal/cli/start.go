package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

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

func terminal(f *os.File) bool { return term.IsTerminal(f.Fd()) }

func (a *app) start() *cobra.Command {
	var noWait, asJSON, prepare, show bool
	var profile string
	cmd := &cobra.Command{
		Use: "start [SERVICE...]", Short: "Start services with what they need, and wait until they are ready",
		Long: `Start starts the named services and everything that they need, in order; without
a name, all. It returns when each is ready or has failed, with exit code 0 only
if all are ready. Those that run already are left as they are. A declaration
that was changed meanwhile is read again if that touches nothing that runs.`,
		Example:           "  neighbour start\n  neighbour start api\n  neighbour start --profile away --open",
		ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			open := a.project
			if cmd.Flags().Changed("profile") {
				open = func() (*project.Project, error) {
					if err := a.enterCopy(); err != nil {
						return nil, err
					}
					return project.OpenProfile(a.dir, profile)
				}
			}
			p, client, whole, err := a.connect(cmd.Context(), open, names, nil)
			if err != nil {
				return err
			}
			defer func() { client.Close() }()
			if fresh, first := p.News(); !first && len(fresh) > 0 {
				fmt.Fprintln(a.err, "not executed here before:")
				for _, c := range fresh {
					fmt.Fprintln(a.err, "    "+c)
				}
			}
			if err := a.offerBranch(cmd.Context(), p, client); err != nil {
				return err
			}
			start := func() (api.Done, error) { return client.Start(cmd.Context(), prepare, names...) }
			for try := 0; ; try++ {
				if noWait {
					_, err = start()
				} else {
					err = a.follow(cmd.Context(), p, client, names, asJSON, start)
				}
				// A stop of everything that came at the same time took the keeper
				// along: this start comes after it.
				if try >= 5 || cmd.Context().Err() != nil || !errors.Is(err, errKeeperEnded) && !errors.Is(err, api.ErrNoKeeper) && !errors.Is(err, api.ErrLost) {
					break
				}
				client.Close()
				if p, client, whole, err = a.connect(cmd.Context(), open, names, nil); err != nil {
					return err
				}
			}
			if errors.Is(err, silentError{}) {
				a.sayStops(cmd.Context(), client)
			}
			if err == nil && show {
				err = a.openIn(cmd.Context(), p, names[:min(len(names), 1)], false)
			}
			if err == nil && !whole {
				return silentError{}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&show, "open", false, "open the page of the first named service, or of the last that has one, in the browser")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "return at once")
	cmd.Flags().BoolVar(&prepare, "prepare", false, "run what prepares them also if it is not due")
	cmd.Flags().StringVar(&profile, "profile", "", "the `name` of a profile of the declaration; it holds until everything is stopped")
	_ = cmd.RegisterFlagCompletionFunc("profile", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		p, err := project.OpenProfile(a.dir, "")
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return p.Profiles, cobra.ShellCompDirectiveNoFileComp
	})
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the status as JSON in the end")
	return cmd
}

func (a *app) restart() *cobra.Command {
	var withNeeds, asJSON, prepare bool
	cmd := &cobra.Command{
		Use: "restart [SERVICE...]", Short: "Stop and start services, without a name all; what needs them is left running",
		Example:           "  neighbour restart\n  neighbour restart api\n  neighbour restart api --with-needs",
		ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, client, whole, err := a.connect(cmd.Context(), a.project, names, names)
			if err != nil {
				return err
			}
			defer client.Close()
			err = a.follow(cmd.Context(), p, client, names, asJSON, func() (api.Done, error) {
				d, err := client.Restart(cmd.Context(), withNeeds, prepare, names...)
				if len(d.Told) > 0 {
					fmt.Fprintf(a.err, "left running, and needing what was restarted: %s\n", strings.Join(d.Told, ", "))
				}
				return d, err
			})
			if err == nil && !whole {
				return silentError{}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&prepare, "prepare", false, "run what prepares them also if it is not due")
	cmd.Flags().BoolVar(&withNeeds, "with-needs", false, "restart what they need, too")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the status as JSON in the end")
	return cmd
}

func (a *app) stop() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "stop [SERVICE...]", Example: "  neighbour stop\n  neighbour stop api", Short: "Stop services and what needs them; without a name all, and the keeper ends",
		ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.project()
			var broken bool
			if err != nil {
				// What runs can be stopped whatever the file says by now.
				if p, err = a.withoutDeclaration(err); err != nil {
					return err
				}
				broken = true
			} else if err := p.Check(names...); err != nil {
				return err
			}
			if broken {
				fmt.Fprintln(a.err, "the declaration is gone or has errors now; stopping what was started by the one before")
			}
			d, err := api.StopProject(cmd.Context(), p, names...)
			if err != nil {
				return err
			}
			if len(names) == 0 && !broken {
				a.clearHosts(p)
			}
			if err := a.stopped(p, d, asJSON); err != nil || p.Copy == "" || len(names) > 0 || broken {
				return err
			}
			fmt.Fprintf(a.err, "the copy %s is gone, with what it held\n", p.Copy)
			return p.RemoveCopy()
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the names of what was stopped as JSON")
	return cmd
}

func (a *app) stopped(p *project.Project, d api.Done, asJSON bool) error {
	if asJSON {
		return a.json(struct {
			Stopped []string `json:"stopped"`
		}{append([]string{}, d.Services...)})
	}
	if len(d.Services) == 0 {
		fmt.Fprintln(a.out, "nothing was running")
		return nil
	}
	fmt.Fprintf(a.out, "stopped: %s\n", strings.Join(d.Services, ", "))
	return nil
}

// connect opens the project, checks the names and finds or starts its keeper.
// If the declaration was changed meanwhile the keeper reads it again, unless
// that would touch services that run, other than except: then that is said,
// and whole is false.
func (a *app) connect(ctx context.Context, open func() (*project.Project, error), names, except []string) (p *project.Project, client *api.Client, whole bool, err error) {
	collectLess(64 << 20)
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
func (a *app) sayRead(effects []insight.Effect) {
	var changes []string
	for _, e := range effects {
		if e.Why != "" {
			changes = append(changes, fmt.Sprintf("%s (%s)", e.Service, e.Why))
		}
	}
	if len(changes) > 0 {
		fmt.Fprintf(a.err, "%s was changed, and is read again: %s\n", declare.FileName, display.Clean(strings.Join(changes, ", ")))
	}
}

// sayTouched says which services that run a changed declaration would restart
// or stop. It fails if a named service is known to the changed one only.
func (a *app) sayTouched(effects []insight.Effect, names []string) error {
	fmt.Fprintf(a.err, "%s was changed while services run, which go on as they were declared, since some would restart or stop:\n", declare.FileName)
	for _, e := range effects {
		if e.Does == insight.Restarts || e.Does == insight.Stops {
			fmt.Fprintf(a.err, "    %s %s: %s\n", e.Service, e.InWords(), display.Clean(e.Why))
		}
	}
	fmt.Fprintln(a.err, "to use it now: neighbour apply")
	for _, e := range effects {
		if slices.Contains(names, e.Service) && e.Does == insight.Starts && e.Why == "it is new" {
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

// awaitTriggers waits until the sources of the triggers are watched whose services are ready,
// so that nothing that is done next is missed.
func awaitTriggers(ctx context.Context, p *project.Project, client *api.Client, services map[string]api.Status) {
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
var errKeeperEnded = errors.New("the keeper ended meanwhile")

// follow shows what happens after a request until each of the named services
// and all that they need is ready or will not be.
func (a *app) follow(ctx context.Context, p *project.Project, client *api.Client, names []string, asJSON bool, request func() (api.Done, error)) error {
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
	report := newReporter(a.err, a.live, names)
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
			return fmt.Errorf("%w: %w", errKeeperEnded, err)
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
			fmt.Fprintf(a.err, "%s: note: %s\n", name, display.Clean(w))
		}
	}
	if !gateFails {
		awaitGate(ctx, p, current)
	}
	awaitTriggers(ctx, p, client, current)
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
func (a *app) result(p *project.Project, names []string, current map[string]api.Status, took time.Duration, asJSON bool, keeper int) error {
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
		if err := a.printStatus(p, current, keeper); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.out, "%s: %d of %d ready after %s\n", p.Name, ready, len(names), words.Span(took))
		if name := p.LANName(); name != "" {
			fmt.Fprintf(a.out, "▲ lan = true: whoever is in this machine's network can open the pages of %s; the address: neighbour gate phone\n", name)
		}
	}
	if bad > 0 {
		return silentError{}
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
