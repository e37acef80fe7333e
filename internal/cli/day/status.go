package day

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/display"
	"neighbour/internal/signs"
)

func newStatus(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "status", Example: "  neighbour status\n  neighbour status --json", Short: "Show how the services are", Args: command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			current, whole, err := api.Look(cmd.Context(), p)
			if err != nil {
				return err
			}
			if asJSON {
				return a.PrintStatus(p, current, whole.PID)
			}
			defer sayOverview(a, whole)
			return statusTable(a, current)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON, with the facts as they are")
	return cmd
}

// sayOverview tells what the user should know of the project as a whole: what
// the keeper warns of, and that the declaration was changed.
func sayOverview(a *command.App, s api.Overview) {
	if s.Warning != "" {
		fmt.Fprintln(a.Err, s.Warning)
	}
	if s.Changed && s.Mistake == "" {
		fmt.Fprintf(a.Err, "%s was changed; neighbour apply uses it for what runs\n", declare.FileName)
	}
}

func statusTable(a *command.App, current map[string]api.Status) error {
	rows := [][]string{{"", "service", "state", "kind", "port", "pid", ""}}
	for _, st := range command.ByStep(current) {
		sentence := display.Clean(st.Sentence(time.Now()))
		rows = append(rows, []string{signs.State(st.Shown()), st.Name, string(st.Shown()), strings.TrimSpace(st.Kind + " " + st.Version), command.Number(st.Port), command.Number(st.PID), sentence})
	}
	return command.PrintTable(a.Out, rows)
}
