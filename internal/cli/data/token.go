package data

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/project"
	"neighbour/internal/emulator/identity"
	kind "neighbour/internal/kinds/identity"
)

func newToken(a *command.App) *cobra.Command {
	var service, fault string
	var want identity.Wanted
	var id, asJSON bool
	cmd := &cobra.Command{
		Use: "token PERSON", Short: "Print an access token of somebody who can sign in",
		Long: `Token has a service of kind identity give an access token of a person, without a
sign-in, for curl and for tests. The person is a name, its first word, or an address.
A fault makes a token that is to be refused:

  expired    it held until an hour ago
  early      it holds in an hour
  revoked    it was revoked
  foreign    another key has signed it, under the id of the right one
  none       it says that it has no signature at all
  issuer     it is another issuer's
  audience   it is for another app`,
		Example: "  curl -H \"Authorization: Bearer $(neighbour token ines)\" http://127.0.0.1:4100/loans\n  neighbour token ines --fault expired",
		Args:    command.Takes(cobra.ExactArgs(1)),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			p, err := a.Project()
			if err != nil || len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var out []string
			for _, s := range p.Services {
				if set, ok := s.Settings.(*kind.Settings); ok {
					for _, person := range set.People {
						out = append(out, person.Name)
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			want.Person, want.Fault = args[0], identity.Fault(fault)
			return printToken(cmd.Context(), a, p, service, want, id, asJSON)
		},
	}
	cmd.Flags().StringVar(&service, "service", "", "the `service`, if there are several of kind identity")
	cmd.Flags().StringVar(&want.Client, "client", "", "the `client` that it is for")
	cmd.Flags().StringVar(&want.Scope, "scope", "", "its scope")
	cmd.Flags().StringVar(&fault, "fault", "", "what is to be wrong with it")
	cmd.Flags().BoolVar(&id, "id", false, "print the ID token instead")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print both as JSON")
	_ = cmd.RegisterFlagCompletionFunc("fault", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		var out []string
		for _, f := range identity.Faults {
			out = append(out, string(f))
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	})
	return cmd
}

func printToken(ctx context.Context, a *command.App, p *project.Project, service string, want identity.Wanted, id, asJSON bool) error {
	name, err := onlyOf(a, p, "identity", service)
	if err != nil {
		return err
	}
	base, err := addressOf(ctx, p, name)
	if err != nil {
		return err
	}
	c := identity.API{Base: base, HTTP: &http.Client{Timeout: 10 * time.Second}}
	given, err := c.Token(ctx, want)
	var refused *identity.Error
	switch {
	case errors.As(err, &refused):
		return errors.New(refused.Text)
	case err != nil:
		return fmt.Errorf("%s does not answer: %s", name, probe.Explain(err))
	case asJSON:
		out := json.NewEncoder(a.Out)
		out.SetIndent("", "  ")
		return out.Encode(given)
	case id && given.ID == "":
		return errors.New("there is no ID token with this fault")
	case id:
		fmt.Fprintln(a.Out, given.ID)
	default:
		fmt.Fprintln(a.Out, given.Access)
	}
	return nil
}
