package look

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

func newEnv(a *command.App) *cobra.Command {
	var format string
	var why, asJSON bool
	cmd := &cobra.Command{
		Use: "env SERVICE", Short: "Print the environment variables that a service gets",
		Long: `Env prints the variables that Neighbour sets for a service: those declared, with
every reference resolved. A program gets the rest of the environment as it is.
Of a server it prints what leads to it: its facts, as LEDGER_URL for those of
the service ledger, and the variables that its own clients read. Passwords are
printed as they are.`,
		Example: "  neighbour env api\n  neighbour env api --why\n  eval \"$(neighbour env ledger --format shell)\"",
		Args:    command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			if asJSON {
				format = "json"
			}
			if format != "dotenv" && format != "shell" && format != "json" {
				return command.Misuse(fmt.Errorf("there is no format %q; write dotenv, shell or json", format))
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			answers := api.Ask(cmd.Context(), p)
			vars, err := answers.Environment(cmd.Context(), names[0], why)
			if err != nil {
				return err
			}
			if !p.Kind(p.Service(names[0])).Info().InheritEnv { // a shell that takes these over has its own
				vars = slices.DeleteFunc(vars, func(v project.Explained) bool { return v.Name == "PATH" })
			}
			if why && format != "json" {
				if err := printOutdated(cmd.Context(), a, answers, names[0]); err != nil {
					return err
				}
			}
			return printEnv(a, vars, format, why)
		},
	}
	cmd.Flags().StringVar(&format, "format", "dotenv", "dotenv, shell or json")
	cmd.Flags().BoolVar(&asJSON, "json", false, "the same as --format json")
	cmd.Flags().BoolVar(&why, "why", false, "say where each value comes from")
	_ = cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"dotenv", "shell", "json"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// printOutdated says in comments which variables a service that runs was started with that would be
// others now.
func printOutdated(ctx context.Context, a *command.App, answers api.Questions, service string) error {
	all, err := answers.Checks(ctx)
	if err != nil {
		return err
	}
	for _, f := range all {
		if f.ID == check.Outdated+"/"+service || f.ID == check.Inherited+"/"+service {
			fmt.Fprintf(a.Raw, "# %s; %s\n", display.Plain(f.What), f.Remedy)
		}
	}
	return nil
}

func printEnv(a *command.App, vars []project.Explained, format string, why bool) error {
	if format == "json" {
		if why {
			return a.JSON(append([]project.Explained{}, vars...))
		}
		values := map[string]string{}
		for _, v := range vars {
			values[v.Name] = v.Value
		}
		return a.JSON(values)
	}
	for _, v := range vars {
		if why {
			fmt.Fprintf(a.Raw, "# %s\n", display.Plain(v.Why()))
			for _, h := range v.Hides {
				fmt.Fprintf(a.Raw, "# goes before %s\n", display.Plain(h.String()))
			}
		}
		if format == "shell" {
			fmt.Fprintf(a.Raw, "export %s=%s\n", v.Name, wire.QuoteShell(v.Value))
		} else {
			text, everywhere := wire.QuoteDotenv(v.Value)
			fmt.Fprintf(a.Raw, "%s=%s\n", v.Name, text)
			if !everywhere {
				fmt.Fprintf(a.Err, "%s: not all readers of env files take this value alike; --format shell and json are exact\n", v.Name)
			}
		}
	}
	return nil
}
