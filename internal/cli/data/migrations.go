package data

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

func newMigrations(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "migrations [SERVICE]", Short: "List the migrations of databases: which ran, and which are due",
		Long: `Migrations lists the files of the folder that a database declares as migrations,
in the order in which they run. Those that are due run when the database is
started; "neighbour start" runs them also where it runs already.`,
		Example: "  neighbour migrations\n  neighbour migrations new add_loans",
		Args:    command.Takes(cobra.MaximumNArgs(1)), ValidArgsFunction: a.CompleteMigrated,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			if len(names) == 0 {
				names = command.Migrated(p)
			}
			if len(names) == 0 {
				return errors.New("no service declares migrations; a database takes migrations = \"db/changes\"")
			}
			all := []launch.Migrations{}
			for _, name := range names {
				m, err := api.Ask(cmd.Context(), p).Migrations(cmd.Context(), name)
				if err != nil {
					return err
				}
				all = append(all, m)
			}
			if asJSON {
				return a.JSON(all)
			}
			return printMigrations(a, all)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	cmd.AddCommand(newNewMigration(a))
	return cmd
}

func printMigrations(a *command.App, all []launch.Migrations) error {
	for i, m := range all {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		counts := map[launch.MigrationState]int{}
		rows := [][]string{{"", "migration", "", "took", "when"}}
		for _, f := range m.Files {
			counts[f.State]++
			sign, state, took, when := migrationSign(f.State), string(f.State), "", ""
			if f.State == launch.MigrationHalf {
				state = fmt.Sprintf("half-way: %d of %s ran", f.Done, words.Count(f.Statements, "statement"))
			}
			if !f.At.IsZero() {
				took, when = words.Millis(f.Took), f.At.Local().Format(time.DateTime)
			}
			rows = append(rows, []string{sign, f.Name, state, took, when})
		}
		head := fmt.Sprintf("%s, %s: ", m.Service, m.Dir)
		switch {
		case m.Unknown != "":
			head += fmt.Sprintf("%s; which ran is not known: %s", words.Count(len(m.Files), "migration"), m.Unknown)
		default:
			head += fmt.Sprintf("%d applied, %d pending", counts[launch.MigrationApplied], counts[launch.MigrationPending]+counts[launch.MigrationHalf])
		}
		if m.Dir == "" {
			head = m.Service
		}
		if m.Seed != "none" && m.Unknown == "" {
			head += "; seed " + m.Seed
		}
		fmt.Fprintln(a.Out, head)
		if m.Problem != "" {
			fmt.Fprintln(a.Out, m.Problem)
		}
		if len(m.Files) > 0 {
			if err := command.PrintTable(a.Out, rows, 3); err != nil {
				return err
			}
		}
	}
	return nil
}

func migrationSign(s launch.MigrationState) string {
	switch s {
	case launch.MigrationApplied:
		return "●"
	case launch.MigrationPending:
		return "○"
	case launch.MigrationUnknown:
		return "?"
	case launch.MigrationHalf:
		return "◐"
	}
	return "✖"
}

func newNewMigration(a *command.App) *cobra.Command {
	var service string
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make the next migration's file, numbered as the others are", Example: "  neighbour migrations new add_loans",
		Long: `New makes the next file in the folder of the migrations, in the style that the
folder has: a number with as many digits, or the time. It prints its path.`,
		Args: command.Takes(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if service == "" {
				var names []string
				for _, n := range command.Migrated(p) {
					if p.Service(n).Scripts().Migrations.Value != "" {
						names = append(names, n)
					}
				}
				switch len(names) {
				case 0:
					return errors.New("no service declares migrations; a database takes migrations = \"db/changes\"")
				case 1:
					service = names[0]
				default:
					return command.Misuse(fmt.Errorf("%s have migrations; say which with --service", words.Join(names)))
				}
			}
			if err := p.Check(service); err != nil {
				return err
			}
			dir := p.Service(service).Scripts().Migrations.Value
			if dir == "" {
				return fmt.Errorf("%s declares no migrations; a database takes migrations = \"db/changes\"", service)
			}
			path, err := migrate.New(p.Dir, dir, args[0], time.Now())
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, path)
			return nil
		},
	}
	cmd.Flags().StringVar(&service, "service", "", "the database, where several have migrations")
	_ = cmd.RegisterFlagCompletionFunc("service", a.CompleteMigrated)
	return cmd
}

func newReset(a *command.App) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "reset SERVICE...", Short: "Empty the data of services, and migrate and seed it anew",
		Long: `Reset empties the data of services. It names what will be lost and asks. What
needs them is stopped for it; then they are started again with what ran, and so
migrated and seeded. It returns when all of that is ready.`,
		Example: "  neighbour reset ledger\n  neighbour reset ledger shelf --yes",
		Args:    command.Takes(cobra.MinimumNArgs(1)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			ctx := cmd.Context()
			p, client, _, err := a.Connect(ctx, a.Project, names, nil)
			if err != nil {
				return err
			}
			defer client.Close()
			losses, err := client.Loss(ctx, names...)
			if err != nil {
				return err
			}
			sayLosses(a, losses)
			if !yes {
				if ok, err := a.Confirm("Empty " + words.Join(names) + "?"); err != nil || !ok {
					return err
				}
			}
			return resetAndFollow(ctx, a, p, client, names)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	return cmd
}

// resetAndFollow empties the data, and waits for what is started then.
func resetAndFollow(ctx context.Context, a *command.App, p *project.Project, client *api.Client, names []string) error {
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return err
	}
	again := append([]string{}, names...)
	for _, name := range p.Plan.WithDependents(names...) {
		if st := current[name]; st.State.Running() {
			again = append(again, name)
		}
	}
	return a.Follow(ctx, p, client, again, false, func() (api.Done, error) { return client.Reset(ctx, names...) })
}

func sayLosses(a *command.App, losses []keep.Loss) {
	for _, l := range losses {
		fmt.Fprintf(a.Err, "%s: %s on disk will be lost\n", l.Service, words.Bytes(l.Bytes))
		for _, c := range l.Contents {
			fmt.Fprintf(a.Err, "    %s\n", c)
		}
		if len(l.Stops) > 0 {
			fmt.Fprintf(a.Err, "    stopped for it, and started again: %s\n", strings.Join(l.Stops, ", "))
		}
	}
}
