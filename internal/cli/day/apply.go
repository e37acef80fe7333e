package day

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
)

func newApply(a *command.App) *cobra.Command {
	var dry, asJSON bool
	cmd := &cobra.Command{
		Use: "apply", Example: "  neighbour apply --dry-run\n  neighbour apply", Short: "Use the declaration as it is now, restarting only what it changes", Args: command.Takes(cobra.NoArgs),
		Long: `Apply makes a changed declaration count for services that run: what is new is
started, what is gone is stopped, and of the rest only those are restarted whose
own keys have changed, or that read a fact which has. What had failed is tried
again if something has changed for it. A declaration with a mistake changes
nothing, nor does one with which a service that runs could not start again.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			client, err := api.Find(cmd.Context(), p)
			if errors.Is(err, api.ErrNoKeeper) {
				fmt.Fprintln(a.Err, "nothing runs; the next start uses the declaration as it is")
				return nil
			}
			if err != nil {
				return err
			}
			defer client.Close()
			if dry {
				effects, err := client.Changes(cmd.Context())
				if err != nil {
					return err
				}
				return printEffects(a, effects, asJSON)
			}
			effects, err := client.Apply(cmd.Context())
			if err != nil {
				return err
			}
			if err := printEffects(a, effects, asJSON); err != nil {
				return err
			}
			return settle(a, cmd, effects)
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would be done")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print what is done as JSON")
	return cmd
}

func printEffects(a *command.App, effects []insight.Effect, asJSON bool) error {
	if asJSON {
		return a.JSON(struct {
			Effects []insight.Effect `json:"effects"`
		}{append([]insight.Effect{}, effects...)})
	}
	for _, e := range effects {
		if (e.Does == insight.Keeps || e.Does == insight.Rests) && e.Why == "" {
			continue
		}
		fmt.Fprintf(a.Out, "%s %s: %s\n", e.Service, e.InWords(), e.Why)
		if e.Refused != "" {
			fmt.Fprintf(a.Out, "  but it could not start: %s\n", e.Refused)
		}
	}
	fmt.Fprintln(a.Out, insight.Summary(effects))
	return nil
}

// settle waits until the keeper that has read the declaration answers, and
// what it starts is ready or will not be.
func settle(a *command.App, cmd *cobra.Command, effects []insight.Effect) error {
	ctx := cmd.Context()
	p, err := a.Project()
	if err != nil {
		return err
	}
	client, err := api.AwaitFresh(ctx, p)
	if err != nil {
		return err
	}
	defer client.Close()
	s, err := client.Status(ctx)
	if err != nil {
		return err
	}
	var names []string
	current := map[string]api.Status{}
	for _, st := range s.Services {
		current[st.Name] = st
		started := func(e insight.Effect) bool {
			return e.Service == st.Name && (e.Does == insight.Starts || e.Does == insight.Restarts)
		}
		if st.State != supervise.Stopped && slices.ContainsFunc(effects, started) {
			names = append(names, st.Name)
		}
	}
	if len(names) == 0 {
		command.AwaitTriggers(ctx, p, client, current)
		return nil
	}
	return a.Follow(ctx, p, client, names, false, func() (api.Done, error) { return api.Done{}, nil })
}
