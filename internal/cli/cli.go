// Package cli is the commands. Answers go to standard output, progress and
// errors to standard error.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/cli/data"
	"neighbour/internal/cli/day"
	"neighbour/internal/cli/look"
	"neighbour/internal/cli/machine"
	"neighbour/internal/core/declaration/declare"
)

// The exit codes.
const (
	done    = 0
	failed  = 1 // it did not work
	misused = 2 // a usage error
)

// Run carries out a command line, without the program's name, and returns
// the exit code.
func Run(args []string, screens command.Screens) int {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	a := &command.App{Out: &command.Cleaner{To: os.Stdout}, Err: &command.Cleaner{To: os.Stderr}, Raw: os.Stdout, Live: os.Stderr, Screens: screens}
	return execute(ctx, a, args)
}

// execute carries out a command line, and returns the exit code.
func execute(ctx context.Context, a *command.App, args []string) int {
	defer a.Err.Flush()
	defer a.Out.Flush()
	root := newRoot(a)
	root.SetArgs(spelledOut(a, root, args))
	err := root.ExecuteContext(ctx)
	var usage command.UsageError
	var silent command.Silent
	var exit command.ExitError
	var unknown *declare.UnknownServiceError
	var profile *declare.UnknownProfileError
	switch {
	case err == nil:
		return done
	case errors.As(err, &exit):
		return exit.Code
	case errors.As(err, &silent):
		return failed
	case errors.As(err, &usage), errors.As(err, &unknown), errors.As(err, &profile):
		fmt.Fprintln(a.Err, "neighbour:", err)
		return misused
	}
	fmt.Fprintln(a.Err, "neighbour:", err)
	return failed
}

// newRoot returns the tree of all commands.
func newRoot(a *command.App) *cobra.Command {
	cobra.EnableCommandSorting = false // they stand in the order in which they are used
	root := &cobra.Command{
		Use:   "neighbour",
		Short: "Starts what your app depends on, and watches it",
		Long: `Neighbour starts the databases, servers and programs that your app depends on,
in the order of what they need, and watches them. They are declared in the
file ` + declare.FileName + `. Without a command it shows them on a full screen.`,
		Example:       "  neighbour\n  neighbour start\n  neighbour -C ~/src/toolshed status",
		Version:       versionLine(),
		Args:          command.Takes(cobra.NoArgs),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return day.Open(cmd.Context(), a)
		},
	}
	root.PersistentFlags().StringVarP(&a.Dir, "dir", "C", ".", "the project's `folder`")
	root.PersistentFlags().StringVar(&a.Copy, "copy", "", "the fresh copy of the project that has this `name`, in place of the project")
	root.SetFlagErrorFunc(command.Misflagged)
	root.SetVersionTemplate("{{.Version}}\n")
	root.SetOut(a.Raw)
	root.SetErr(a.Err)
	for _, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"The working day:", day.Commands(a)},
		{"What goes on, and why:", look.Commands(a)},
		{"What services hold and do:", data.Commands(a)},
		{"This machine, and all projects on it:", machine.Commands(a)},
		{"About Neighbour:", []*cobra.Command{newSchema(a), newVersion(a)}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.title
			root.AddCommand(c)
		}
		root.SetHelpCommandGroupID(g.title) // the last
		root.SetCompletionCommandGroupID(g.title)
	}
	root.AddCommand(newKeep(a), newEmulate(a), newSendmail(a), newToolshed(a), newGateProcess(a))
	return root
}
