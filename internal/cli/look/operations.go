package look

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
)

func newOperations(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "operations", Short: "What is being done to services, who asked for it, and what was done last",
		Args:    command.Takes(cobra.NoArgs),
		Example: "  neighbour operations\n  neighbour operations cancel 7",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all := []keep.Operation{}
			err := a.WithKeeper(cmd.Context(), func(client *api.Client) (err error) {
				all, err = client.Operations(cmd.Context())
				return err
			})
			var idle *command.IdleError
			if err != nil && !errors.As(err, &idle) {
				return err
			}
			if idle != nil {
				fmt.Fprintln(a.Err, idle)
			}
			if asJSON {
				return json.NewEncoder(a.Raw).Encode(all)
			}
			if idle == nil {
				printOperations(a, all, time.Now())
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print them as JSON")
	cmd.AddCommand(&cobra.Command{
		Use: "cancel NUMBER", Short: "Cancel an operation",
		Long: `Cancel cancels an operation. One that waits for another is not carried out. Of a
start, the services that are not ready yet are stopped. A stop goes on for the
services that were asked to end, and not for others.`,
		Args: command.Takes(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.Atoi(args[0])
			if err != nil {
				return command.Misuse(fmt.Errorf("%q is not the number of an operation; \"neighbour operations\" lists them", args[0]))
			}
			return a.WithKeeper(cmd.Context(), func(client *api.Client) error {
				if err := client.Cancel(cmd.Context(), id); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "operation %d is cancelled\n", id)
				return nil
			})
		},
	})
	return cmd
}

func printOperations(a *command.App, all []keep.Operation, now time.Time) {
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "nothing was done since the keeper began")
	}
	for _, o := range all {
		took, about := now.Sub(o.Began), ""
		switch {
		case o.State == keep.OperationRuns && len(o.Services) > 1 && (o.Does == keep.Start || o.Does == keep.Restart):
			about = fmt.Sprintf("  %d of %d ready", o.Ready, len(o.Services))
		case o.State == keep.OperationRuns && o.Says != "":
			about = "  " + o.Says
		case o.Reason != "":
			about = "  " + o.Reason
		}
		if o.State.Over() {
			took = o.Ended.Sub(o.Began)
		}
		fmt.Fprintf(a.Out, "%4d  %-9s  %s  %7s  %s  (%s)%s\n", o.ID, o.State, o.Began.Local().Format("15:04:05"), words.Span(took), display.Pad(o.String(), 28), o.By, about)
	}
}
