package cli

import (
	"io"
	"slices"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/project"
)

// spelledOut returns a command line in which the name of an errand stands in the
// place of a command as one that runs the errand.
func spelledOut(a *command.App, root *cobra.Command, args []string) []string {
	before := pflag.NewFlagSet("", pflag.ContinueOnError)
	before.SetOutput(io.Discard)
	before.SetInterspersed(false) // what comes after the name is the errand's
	before.AddFlagSet(root.PersistentFlags())
	if err := before.Parse(args); err != nil || before.NArg() == 0 {
		return args
	}
	name := before.Arg(0)
	if found, _, err := root.Find([]string{name}); err == nil && found != root || slices.Contains(declare.CommandNames, name) {
		return args
	}
	p, err := project.Open(a.Dir)
	if err != nil || p.Errand(name) == nil {
		return args
	}
	return slices.Insert(slices.Clone(args), len(args)-before.NArg(), "run")
}
