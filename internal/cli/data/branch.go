package data

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

func newBranches(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "branch", Short: "The data of git branches: which it is, and what is kept for others", Args: command.Takes(cobra.NoArgs),
		Long: `Branch tells of which git branch the data of the services is, and what is kept for other
branches. With

    [snapshots]
    on = { branch = true }

each branch has its own data: after a checkout Neighbour offers to switch, and with
switch = true beside branch it does so by itself. A branch that has no data yet gets a
copy of that of the branch which it was come to from.`,
		Example: "  neighbour snapshot branch\n  neighbour snapshot branch switch\n  neighbour snapshot branch drop old-idea",
		RunE: func(*cobra.Command, []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			b, err := keep.Branches(p)
			if err != nil {
				return err
			}
			if asJSON {
				return a.JSON(b)
			}
			return printBranches(a, b)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	cmd.AddCommand(newSwitchBranch(a), newKeepBranch(a), newDropBranch(a))
	return cmd
}

func printBranches(a *command.App, b keep.BranchData) error {
	switch {
	case !b.On && len(b.Sets) == 0:
		fmt.Fprintln(a.Err, "the declaration keeps no data apart for branches; [snapshots] on = { branch = true } does")
		return nil
	case b.Data != "":
		fmt.Fprintf(a.Out, "the data is that of the branch %s\n", display.Plain(b.Data))
	}
	if b.Differs() {
		fmt.Fprintf(a.Out, "the branch %s is checked out; neighbour snapshot branch switch\n", display.Plain(b.Now))
	}
	if len(b.Sets) == 0 {
		return nil
	}
	rows := [][]string{{"branch", "left", "size", "services", ""}}
	for _, s := range b.Sets {
		gone := ""
		if s.Gone {
			gone = "git has it no more"
		}
		rows = append(rows, []string{display.Plain(s.Branch), words.Span(time.Since(s.Made)) + " ago", words.Bytes(uint64(s.Bytes)), strings.Join(s.Services, ", "), gone})
	}
	return command.PrintTable(a.Out, rows, 2)
}

func newSwitchBranch(a *command.App) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "switch", Short: "Switch to the data of the branch that is checked out", Args: command.Takes(cobra.NoArgs),
		Long: `Switch keeps the data that services hold for its branch, and puts that of the branch that is
checked out in its place; a branch without any gets a copy of the data of the branch that
it was come to from. What reads the data is stopped for it, and started again.`,
		Example: "  neighbour snapshot branch switch",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, client, err := keeper(cmd.Context(), a)
			if err != nil {
				return err
			}
			defer client.Close()
			b, err := p.Branch()
			if err != nil {
				return err
			}
			if b.Differs() && !yes {
				if ok, err := a.Confirm(fmt.Sprintf("Put the data of %s in the place of that of %s, which is kept?", b.Now, b.Data)); err != nil || !ok {
					return err
				}
			}
			return switchAndFollow(cmd.Context(), a, p, client)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	return cmd
}

// switchAndFollow switches to the data of the branch that is checked out, and waits for what is
// started again then.
func switchAndFollow(ctx context.Context, a *command.App, p *project.Project, client *api.Client) error {
	var keepers []string
	for _, s := range p.Services {
		if p.KeepsData(s) {
			keepers = append(keepers, s.Name)
		}
	}
	again, err := runningOf(ctx, p, keepers)
	if err != nil {
		return err
	}
	do := func() (api.Done, error) {
		told := tellingOperations(ctx, a, client, keep.Save, keep.Switch)
		s, err := client.SwitchBranch(ctx, false)
		told()
		if err != nil {
			return api.Done{}, err
		}
		of := "its own, as it was left"
		if s.Source != "" {
			of = "a copy of that of " + s.Source
		}
		fmt.Fprintf(a.Out, "the data is that of %s now: %s; that of %s is kept\n", display.Plain(s.To), display.Plain(of), display.Plain(s.From))
		a.Out.Flush()
		return api.Done{Began: s.Began}, nil
	}
	if len(again) == 0 {
		_, err := do()
		return err
	}
	return a.Follow(ctx, p, client, again, false, do)
}

func newKeepBranch(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "keep", Short: "Take the data along to the branch that is checked out", Args: command.Takes(cobra.NoArgs), Example: "  neighbour snapshot branch keep",
		Long: `Keep has the data that services hold be that of the branch that is checked out. Nothing is
copied; the branch that it was of gets a copy of it when it is checked out again.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, client, err := keeper(cmd.Context(), a)
			if err != nil {
				return err
			}
			defer client.Close()
			s, err := client.SwitchBranch(cmd.Context(), true)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "the data is that of %s now\n", display.Plain(s.To))
			return nil
		},
	}
}

func newDropBranch(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "drop BRANCH...", Short: "Delete the data that is kept for branches", Args: command.Takes(cobra.MinimumNArgs(1)), Example: "  neighbour snapshot branch drop old-idea",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			if p, err := a.Project(); err == nil {
				if b, err := keep.Branches(p); err == nil {
					for _, s := range b.Sets {
						out = append(out, s.Branch)
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			for _, name := range names {
				if err := p.Branches().Drop(project.BranchSet(name)); err != nil {
					return fmt.Errorf("nothing is kept for the branch %q; neighbour snapshot branch lists what is", name)
				}
				fmt.Fprintf(a.Out, "dropped: the data of %s\n", display.Plain(name))
			}
			return nil
		},
	}
}

// OfferBranch says before a start that the data is another branch's than the one that is checked
// out, and offers to switch.
func OfferBranch(ctx context.Context, a *command.App, p *project.Project, client *api.Client) error {
	b, err := p.Branch()
	if _, byItself := p.ByBranch(); err != nil || !b.Differs() || byItself {
		return err
	}
	fmt.Fprintf(a.Err, "▲ the branch %s is checked out, and the data is that of %s\n", display.Plain(b.Now), display.Plain(b.Data))
	if !command.Terminal(os.Stdin) {
		fmt.Fprintln(a.Err, "  neighbour snapshot branch switch gives the branch its own, neighbour snapshot branch keep takes it along")
		return nil
	}
	ok, err := a.AskYes(fmt.Sprintf("Switch to the data of %s first?", b.Now))
	if err != nil || !ok {
		return err
	}
	return switchAndFollow(ctx, a, p, client)
}
