package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/check"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
	"neighbour/internal/core/supervise"
	"neighbour/internal/core/words"
	"neighbour/internal/display"
	"neighbour/internal/signs"
)

func (a *app) check() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "check", Example: "  neighbour check\n  neighbour check --json", Short: "Find what would go wrong, before anything starts", Args: takes(cobra.NoArgs),
		Long: `Check looks for missing programs and versions, ports that others hold, folders
that can't be written, packages to install, env files that contradict the
declaration, and more. It changes nothing. The exit code is 1 if something that
it found would stop a start.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.project()
			if err != nil {
				return err
			}
			all, err := api.Ask(cmd.Context(), p).Checks(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				if err := a.json(struct {
					Findings []check.Finding `json:"findings"`
				}{append([]check.Finding{}, all...)}); err != nil {
					return err
				}
			} else {
				a.printFindings(p, all)
			}
			if len(check.Stopping(all)) > 0 {
				return silentError{}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func (a *app) printFindings(p *project.Project, all []check.Finding) {
	install := check.InstallCommand(all)
	for _, f := range all {
		name := f.Service
		if name == "" {
			name = p.Name
		}
		fmt.Fprintf(a.out, "%s %-5s  %s: %s\n", signs.Level(f.Level), f.Level, name, display.Clean(f.What))
		for _, l := range []struct{ label, text string }{{"why", f.Why}, {"do", f.Remedy}, {"in", f.Where}} {
			if install != "" && f.Packages != (kind.Packages{}) && l.label == "do" {
				continue // told in one for all
			}
			if l.text != "" {
				fmt.Fprintf(a.out, "         %-4s %s\n", l.label, display.Clean(l.text))
			}
		}
	}
	counts := map[check.Level]int{}
	for _, f := range all {
		counts[f.Level]++
	}
	if len(all) == 0 {
		fmt.Fprintf(a.out, "%s: nothing found that would go wrong\n", p.Name)
		return
	}
	fmt.Fprintf(a.out, "%s: %d would stop a start, %s, %s\n", p.Name, counts[check.Stops], words.Count(counts[check.Warns], "warning"), words.Count(counts[check.Note], "note"))
	if install != "" {
		fmt.Fprintf(a.out, "To install what is missing:\n\n    %s\n", install)
	}
}

// sayStops tells what will stop the services that wait for others now, so that
// not one problem after the other comes up.
func (a *app) sayStops(ctx context.Context, client *api.Client) {
	current, err := client.Status(ctx)
	if err != nil {
		return
	}
	all, err := client.Checks(ctx)
	if err != nil {
		return
	}
	if install := check.InstallCommand(all); install != "" {
		defer fmt.Fprintf(a.err, "To install what is missing:\n\n    %s\n", install)
	}
	for _, f := range check.Stopping(all) {
		waits := func(s api.Status) bool { return s.Name == f.Service && s.State == supervise.Waiting }
		if !slices.ContainsFunc(current.Services, waits) {
			continue
		}
		fmt.Fprintf(a.err, "%s %s waits, and could not start: %s\n", signs.Level(f.Level), f.Service, display.Clean(f.What))
		if f.Remedy != "" {
			fmt.Fprintf(a.err, "    %s\n", display.Clean(f.Remedy))
		}
	}
}
