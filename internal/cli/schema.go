package cli

import (
	"github.com/spf13/cobra"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind/catalogue"
)

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the declaration, for editors", Args: words(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			b, err := declare.Schema(catalogue.All)
			if err != nil {
				return err
			}
			_, err = a.out.Write(b)
			return err
		},
	}
}
