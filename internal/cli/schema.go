package cli

import (
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

func newSchema(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "schema", Example: "  neighbour schema > neighbour.schema.json", Short: "Print the JSON Schema of the declaration, for editors", Args: command.Takes(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			// A project's own kinds are completed, too, where there is one.
			var d *declare.Declaration
			if p, err := a.Project(); err == nil {
				d = p.Declaration
			}
			b, err := declare.Schema(kind.All(), d)
			if err != nil {
				return err
			}
			_, err = a.Raw.Write(b)
			return err
		},
	}
}
