// Neighbour starts what a web application depends on and watches it.
package main

import (
	"context"
	"os"

	"neighbour/internal/cli"
	"neighbour/internal/cli/command"
	_ "neighbour/internal/kinds/catalogue" // the kinds that there are
	"neighbour/internal/tui"
	"neighbour/internal/tui/shell"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], command.Screens{
		Run: func(ctx context.Context, o command.ScreenOptions) (command.Left, error) {
			left, err := tui.Run(ctx, shell.Options{Client: o.Client, Connect: o.Connect, Refresh: o.Refresh})
			return command.Left(left), err
		},
		Setup: tui.Setup,
	}))
}
