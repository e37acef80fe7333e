package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/trust"
)

func (a *app) openPage() *cobra.Command {
	var show bool
	cmd := &cobra.Command{
		Use: "open [SERVICE]", Short: "Open a service's page in the browser",
		Long: `Open opens the address of a running service in the browser. Without a name it is
that of the last one in the order of a start that has a page. BROWSER in the
environment names another program to open it with.`,
		Example:           "  neighbour open\n  neighbour open api\n  neighbour open web --print",
		Args:              takes(cobra.MaximumNArgs(1)),
		ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			return a.openIn(cmd.Context(), p, names, show)
		},
	}
	cmd.Flags().BoolVar(&show, "print", false, "only print the address")
	return cmd
}

// openIn opens the page of a named service, or of the last that has one.
func (a *app) openIn(ctx context.Context, p *project.Project, names []string, show bool) error {
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return err
	}
	var chosen api.Status
	for _, st := range byStep(current) {
		if len(names) > 0 && st.Name == names[0] || len(names) == 0 && page(st) != "" && st.State == supervise.Ready {
			chosen = st
		}
	}
	address := page(chosen)
	switch {
	case chosen.Name == "":
		return errors.New("no service with a page is ready; start one with: neighbour start")
	case address == "":
		return fmt.Errorf("%s has no page: it offers no url that begins with http", chosen.Name)
	case chosen.State != supervise.Ready && !show:
		return fmt.Errorf("%s is %s; start it with: neighbour start %s", chosen.Name, chosen.State, chosen.Name)
	}
	address = trust.Openable(ctx, address, p.Gate != nil && p.Gate.HTTPSOnly)
	fmt.Fprintln(a.out, address)
	if show {
		return nil
	}
	return browser.Open(address)
}

// page returns the address of a service's page, "" if it has none.
func page(st api.Status) string {
	for _, f := range st.Facts {
		if f.Name == declare.PublicURL {
			return f.Value
		}
	}
	for _, f := range st.Facts {
		if (f.Name == "url" || strings.HasSuffix(f.Name, "_url")) && strings.HasPrefix(f.Value, "http") && !f.Secret {
			return f.Value
		}
	}
	return ""
}
