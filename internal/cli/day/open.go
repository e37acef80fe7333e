package day

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/trust"
)

func newOpen(a *command.App) *cobra.Command {
	var show bool
	cmd := &cobra.Command{
		Use: "open [SERVICE]", Short: "Open a service's page in the browser",
		Long: `Open opens the address of a running service in the browser. Without a name it is
that of the last one in the order of a start that has a page. BROWSER in the
environment names another program to open it with.`,
		Example:           "  neighbour open\n  neighbour open api\n  neighbour open web --print",
		Args:              command.Takes(cobra.MaximumNArgs(1)),
		ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			return openIn(cmd.Context(), a, p, names, show)
		},
	}
	cmd.Flags().BoolVar(&show, "print", false, "only print the address")
	return cmd
}

// openIn opens the page of a named service, or of the last that has one.
func openIn(ctx context.Context, a *command.App, p *project.Project, names []string, show bool) error {
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return err
	}
	var chosen api.Status
	for _, st := range command.ByStep(current) {
		if len(names) > 0 && st.Name == names[0] || len(names) == 0 && command.Page(st) != "" && st.State == supervise.Ready {
			chosen = st
		}
	}
	address := command.Page(chosen)
	switch {
	case chosen.Name == "":
		return errors.New("no service with a page is ready; start one with: neighbour start")
	case address == "":
		return fmt.Errorf("%s has no page: it offers no url that begins with http", chosen.Name)
	case chosen.State != supervise.Ready && !show:
		return fmt.Errorf("%s is %s; start it with: neighbour start %s", chosen.Name, chosen.State, chosen.Name)
	}
	address = trust.Openable(ctx, address, p.Gate != nil && p.Gate.HTTPSOnly)
	fmt.Fprintln(a.Out, address)
	if show {
		return nil
	}
	return browser.Open(address)
}
