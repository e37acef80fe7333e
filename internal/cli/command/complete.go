package command

import (
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/project"
)

// CompleteServices completes the names of services.
func (a *App) CompleteServices(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.Project()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return p.Names(), cobra.ShellCompDirectiveNoFileComp
}

// CompleteCollections completes services that hold something, and their collections.
func (a *App) CompleteCollections(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.Project()
	if err != nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	if len(args) == 0 {
		return keep.Holding(p), cobra.ShellCompDirectiveNoFileComp
	}
	d, err := api.AskOf(cmd.Context(), p, args[0]).Data(cmd.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, c := range d.Collections {
		out = append(out, c.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// Migrated returns the services that declare migrations or a seed.
func Migrated(p *project.Project) []string {
	var out []string
	for _, s := range p.Services {
		if sc := s.Scripts(); sc.Migrations.Value != "" || !sc.Seed.IsZero() {
			out = append(out, s.Name)
		}
	}
	return out
}

// CompleteMigrated completes the names of services with migrations or a seed.
func (a *App) CompleteMigrated(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := a.Project()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return Migrated(p), cobra.ShellCompDirectiveNoFileComp
}

// CompleteTriggers completes the names of triggers.
func (a *App) CompleteTriggers(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if p, err := a.Project(); err == nil && len(args) == 0 {
		for _, t := range p.Triggers {
			out = append(out, t.Name)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteSnapshots completes the names of snapshots, and after one those of its services.
func (a *App) CompleteSnapshots(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if p, err := a.Project(); err == nil {
		all, _ := p.Snapshots().List()
		for _, m := range all {
			if len(args) == 0 {
				out = append(out, m.Name)
			} else if m.Name == args[0] {
				out = m.Names()
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteErrands completes the names of errands, with what they are for.
func (a *App) CompleteErrands(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.Project()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var out []string
	for _, e := range p.Errands {
		out = append(out, strings.TrimSuffix(e.Name+"\t"+e.About, "\t"))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
