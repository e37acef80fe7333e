package day

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/cli/data"
	"neighbour/internal/core/project"
)

func newStart(a *command.App) *cobra.Command {
	var noWait, asJSON, prepare, show bool
	var profile string
	cmd := &cobra.Command{
		Use: "start [SERVICE...]", Short: "Start services with what they need, and wait until they are ready",
		Long: `Start starts the named services and everything that they need, in order; without
a name, all. It returns when each is ready or has failed, with exit code 0 only
if all are ready. Those that run already are left as they are. A declaration
that was changed meanwhile is read again if that touches nothing that runs.`,
		Example:           "  neighbour start\n  neighbour start api\n  neighbour start --profile away --open",
		ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			open := a.Project
			if cmd.Flags().Changed("profile") {
				open = func() (*project.Project, error) {
					if err := a.EnterCopy(); err != nil {
						return nil, err
					}
					return project.OpenProfile(a.Dir, profile)
				}
			}
			p, client, whole, err := a.Connect(cmd.Context(), open, names, nil)
			if err != nil {
				return err
			}
			defer func() { client.Close() }()
			if fresh, first := p.News(); !first && len(fresh) > 0 {
				fmt.Fprintln(a.Err, "not executed here before:")
				for _, c := range fresh {
					fmt.Fprintln(a.Err, "    "+c)
				}
			}
			if err := data.OfferBranch(cmd.Context(), a, p, client); err != nil {
				return err
			}
			start := func() (api.Done, error) { return client.Start(cmd.Context(), prepare, names...) }
			for try := 0; ; try++ {
				if noWait {
					_, err = start()
				} else {
					err = a.Follow(cmd.Context(), p, client, names, asJSON, start)
				}
				// A stop of everything that came at the same time took the keeper
				// along: this start comes after it.
				if try >= 5 || cmd.Context().Err() != nil || !errors.Is(err, command.ErrKeeperEnded) && !errors.Is(err, api.ErrNoKeeper) && !errors.Is(err, api.ErrLost) {
					break
				}
				client.Close()
				if p, client, whole, err = a.Connect(cmd.Context(), open, names, nil); err != nil {
					return err
				}
			}
			if errors.Is(err, command.Silent{}) {
				sayStops(cmd.Context(), a, client)
			}
			if err == nil && show {
				err = openIn(cmd.Context(), a, p, names[:min(len(names), 1)], false)
			}
			if err == nil && !whole {
				return command.Silent{}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&show, "open", false, "open the page of the first named service, or of the last that has one, in the browser")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "return at once")
	cmd.Flags().BoolVar(&prepare, "prepare", false, "run what prepares them also if it is not due")
	cmd.Flags().StringVar(&profile, "profile", "", "the `name` of a profile of the declaration; it holds until everything is stopped")
	_ = cmd.RegisterFlagCompletionFunc("profile", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		p, err := project.OpenProfile(a.Dir, "")
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return p.Profiles, cobra.ShellCompDirectiveNoFileComp
	})
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the status as JSON in the end")
	return cmd
}

func newRestart(a *command.App) *cobra.Command {
	var withNeeds, asJSON, prepare bool
	cmd := &cobra.Command{
		Use: "restart [SERVICE...]", Short: "Stop and start services, without a name all; what needs them is left running",
		Example:           "  neighbour restart\n  neighbour restart api\n  neighbour restart api --with-needs",
		ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, client, whole, err := a.Connect(cmd.Context(), a.Project, names, names)
			if err != nil {
				return err
			}
			defer client.Close()
			err = a.Follow(cmd.Context(), p, client, names, asJSON, func() (api.Done, error) {
				d, err := client.Restart(cmd.Context(), withNeeds, prepare, names...)
				if len(d.Told) > 0 {
					fmt.Fprintf(a.Err, "left running, and needing what was restarted: %s\n", strings.Join(d.Told, ", "))
				}
				return d, err
			})
			if err == nil && !whole {
				return command.Silent{}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&prepare, "prepare", false, "run what prepares them also if it is not due")
	cmd.Flags().BoolVar(&withNeeds, "with-needs", false, "restart what they need, too")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the status as JSON in the end")
	return cmd
}

func newStop(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "stop [SERVICE...]", Example: "  neighbour stop\n  neighbour stop api", Short: "Stop services and what needs them; without a name all, and the keeper ends",
		ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			var broken bool
			if err != nil {
				// What runs can be stopped whatever the file says by now.
				if p, err = a.WithoutDeclaration(err); err != nil {
					return err
				}
				broken = true
			} else if err := p.Check(names...); err != nil {
				return err
			}
			if broken {
				fmt.Fprintln(a.Err, "the declaration is gone or has errors now; stopping what was started by the one before")
			}
			d, err := api.StopProject(cmd.Context(), p, names...)
			if err != nil {
				return err
			}
			if len(names) == 0 && !broken {
				a.ClearHosts(p)
			}
			if err := stopped(a, p, d, asJSON); err != nil || p.Copy == "" || len(names) > 0 || broken {
				return err
			}
			fmt.Fprintf(a.Err, "the copy %s is gone, with what it held\n", p.Copy)
			return p.RemoveCopy()
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the names of what was stopped as JSON")
	return cmd
}

func stopped(a *command.App, p *project.Project, d api.Done, asJSON bool) error {
	if asJSON {
		return a.JSON(struct {
			Stopped []string `json:"stopped"`
		}{append([]string{}, d.Services...)})
	}
	if len(d.Services) == 0 {
		fmt.Fprintln(a.Out, "nothing was running")
		return nil
	}
	fmt.Fprintf(a.Out, "stopped: %s\n", strings.Join(d.Services, ", "))
	return nil
}
