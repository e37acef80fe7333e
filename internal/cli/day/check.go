package day

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
	"neighbour/internal/signs"
)

func newCheck(a *command.App) *cobra.Command {
	var asJSON, install, yes bool
	cmd := &cobra.Command{
		Use: "check", Example: "  neighbour check\n  neighbour check --install", Short: "Find what would go wrong, before anything starts", Args: command.Takes(cobra.NoArgs),
		Long: `Check looks for missing programs and versions, ports that others hold, folders
that can't be written, packages to install, env files that contradict the
declaration, and more. It changes nothing. The exit code is 1 if something that
it found would stop a start. With --install it shows the command that installs
what is missing, asks, runs it, and looks again.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			all, err := api.Ask(cmd.Context(), p).Checks(cmd.Context())
			if err != nil {
				return err
			}
			if install {
				if all, err = installMissing(cmd.Context(), a, p, all, yes); err != nil {
					return err
				}
			}
			if asJSON {
				if err := a.JSON(struct {
					Findings []check.Finding `json:"findings"`
				}{append([]check.Finding{}, all...)}); err != nil {
					return err
				}
			} else {
				printFindings(a, p, all)
			}
			if len(check.Stopping(all)) > 0 {
				return command.Silent{}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	cmd.Flags().BoolVar(&install, "install", false, "install the packages that are missing")
	cmd.Flags().BoolVar(&yes, "yes", false, "with --install, don't ask")
	return cmd
}

// installMissing installs what findings miss, all of it in one go, and returns what is found then. It asks
// once; what installs it asks no more.
func installMissing(ctx context.Context, a *command.App, p *project.Project, all []check.Finding, yes bool) ([]check.Finding, error) {
	look := func() (err error) {
		all, err = api.Ask(ctx, p).Checks(ctx)
		return err
	}
	i := check.Install(true, all)
	if len(i.Argv) == 0 {
		fmt.Fprintln(a.Err, "Nothing is missing that can be installed here.")
		return all, nil
	}
	sayUnmet(a, all)
	fmt.Fprint(a.Err, "To install what is missing:\n\n")
	if len(i.Update) > 0 {
		fmt.Fprintf(a.Err, "    %s\n", wire.QuoteCommand(i.Update))
	}
	fmt.Fprintf(a.Err, "    %s\n\n", i)
	if more := check.ServersInWords(i.Serving); more != "" {
		fmt.Fprintf(a.Err, "note: %s\n", more)
	}
	if !yes {
		if ok, err := a.Confirm("Run it?"); err != nil || !ok {
			return all, err
		}
	}
	if len(i.Update) > 0 {
		if err := pass(ctx, a, i.Update); err != nil {
			return all, err
		}
		if err := look(); err != nil { // packages of a certain version are found in the lists
			return all, err
		}
		i = check.Install(true, all)
	}
	if err := pass(ctx, a, i.Argv); err != nil {
		return all, err
	}
	return all, look()
}

// sayUnmet says which versions the project asks for that what is installed does not have.
func sayUnmet(a *command.App, all []check.Finding) {
	for _, f := range all {
		if strings.HasPrefix(f.ID, check.Runtime) {
			fmt.Fprintf(a.Err, "%s %s: %s\n", signs.Level(f.Level), f.Service, display.Clean(f.What))
		}
	}
}

// pass runs a command on this terminal.
func pass(ctx context.Context, a *command.App, argv []string) error {
	a.Out.Flush()
	a.Err.Flush()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stderr, os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", wire.QuoteCommand(argv), err)
	}
	return nil
}

func printFindings(a *command.App, p *project.Project, all []check.Finding) {
	install := check.InstallCommand(all)
	for _, f := range all {
		name := f.Service
		if name == "" {
			name = p.Name
		}
		fmt.Fprintf(a.Out, "%s %-5s  %s: %s\n", signs.Level(f.Level), f.Level, name, display.Clean(f.What))
		for _, l := range []struct{ label, text string }{{"why", f.Why}, {"do", f.Remedy}, {"in", f.Where}} {
			if install != "" && f.Packages != (kind.Packages{}) && l.label == "do" {
				continue // told in one for all
			}
			if l.text != "" {
				fmt.Fprintf(a.Out, "         %-4s %s\n", l.label, display.Clean(l.text))
			}
		}
	}
	counts := map[check.Level]int{}
	for _, f := range all {
		counts[f.Level]++
	}
	if len(all) == 0 {
		fmt.Fprintf(a.Out, "%s: nothing found that would go wrong\n", p.Name)
		return
	}
	fmt.Fprintf(a.Out, "%s: %d would stop a start, %s, %s\n", p.Name, counts[check.Stops], words.Count(counts[check.Warns], "warning"), words.Count(counts[check.Note], "note"))
	if install != "" {
		fmt.Fprintf(a.Out, "To install what is missing:\n\n    %s\n", install)
	}
}

// sayStops tells what will stop the services that wait for others now, so that
// not one problem after the other comes up.
func sayStops(ctx context.Context, a *command.App, client *api.Client) {
	current, err := client.Status(ctx)
	if err != nil {
		return
	}
	all, err := client.Checks(ctx)
	if err != nil {
		return
	}
	if install := check.InstallCommand(all); install != "" {
		defer fmt.Fprintf(a.Err, "To install what is missing:\n\n    %s\n", install)
	}
	for _, f := range check.Stopping(all) {
		waits := func(s api.Status) bool { return s.Name == f.Service && s.State == supervise.Waiting }
		if !slices.ContainsFunc(current.Services, waits) {
			continue
		}
		fmt.Fprintf(a.Err, "%s %s waits, and could not start: %s\n", signs.Level(f.Level), f.Service, display.Clean(f.What))
		if f.Remedy != "" {
			fmt.Fprintf(a.Err, "    %s\n", display.Clean(f.Remedy))
		}
	}
}
