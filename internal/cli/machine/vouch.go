package machine

import (
	"fmt"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/project"
)

func newVouch(a *command.App) *cobra.Command {
	empty := false
	cmd := &cobra.Command{
		Use: "vouch", Short: "Use a project although others may change it", Args: command.Takes(cobra.NoArgs),
		Long: `Vouch remembers that you use this project although its declaration, or a folder
on the way to it, belongs to somebody else or can be written by others: who can
change it decides what is executed as you. A folder ` + project.StateDir + ` that was not made
here, because it came with a home of before, say, is used from then on, too. A
copied folder of a project becomes a project of its own, with a copy of the data
(of a project that is stopped; with --empty none), and ports and an identity of its
own.`,
		Example: "  neighbour -C /srv/toolshed vouch",
		RunE: func(*cobra.Command, []string) error {
			dir, err := project.Vouch(a.Dir, empty)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is used from now on, whoever changes it\n", dir)
			return nil
		},
	}
	cmd.Flags().BoolVar(&empty, "empty", false, "a copied folder begins with empty data")
	return cmd
}
