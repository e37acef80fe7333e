package command

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"neighbour/internal/core/declaration/declare"
)

// Takes makes errors in the arguments usage errors, in our own terms.
func Takes(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return UsageError{fmt.Errorf("%w (see: %s --help)", misread(cmd, args, err), cmd.CommandPath())}
		}
		return nil
	}
}

// misread says what is wrong with a command's arguments, by what its usage
// names.
func misread(cmd *cobra.Command, args []string, err error) error {
	_, takes, _ := strings.Cut(cmd.Use, " ")
	service := strings.HasPrefix(takes, "SERVICE")
	switch {
	case cmd.Parent() == nil && len(args) > 0:
		err = fmt.Errorf("there is no command %q", args[0])
		if near := declare.Nearest(args[0], Names(cmd)); near != "" {
			err = fmt.Errorf("%w; did you mean %q?", err, near)
		}
	case takes == "" && len(args) > 0:
		err = fmt.Errorf("%s takes no names, and there is %q", cmd.Name(), args[0])
	case !service && takes != "" && strings.HasPrefix(err.Error(), "accepts "):
		err = fmt.Errorf("%s takes %s, and %s", cmd.Name(), takes, given(args))
	case service && len(args) == 0:
		err = fmt.Errorf("%s needs the name of a service", cmd.Name())
	case service && len(args) > 1:
		err = fmt.Errorf("%s takes one service, and there are %d names", cmd.Name(), len(args))
	case cmd.Name() == "run":
		err = errors.New("run needs a command: neighbour run --with SERVICE -- COMMAND")
	}
	return err
}

// Misflagged says what is wrong with a command's options.
func Misflagged(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var none *pflag.ValueRequiredError
	var invalid *pflag.InvalidValueError
	option := func(f *pflag.Flag) string { return "--" + f.Name }
	switch {
	case errors.As(err, &unknown) && unknown.GetSpecifiedShortnames() != "":
		err = fmt.Errorf("%s has no option -%s", cmd.Name(), unknown.GetSpecifiedName())
	case errors.As(err, &unknown):
		var known []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		err = fmt.Errorf("%s has no option --%s", cmd.Name(), unknown.GetSpecifiedName())
		if near := declare.Nearest(unknown.GetSpecifiedName(), known); near != "" {
			err = fmt.Errorf("%w; did you mean --%s?", err, near)
		}
	case errors.As(err, &none):
		err = fmt.Errorf("%s needs a value", option(none.GetFlag()))
	case errors.As(err, &invalid):
		what := "not what it takes"
		switch invalid.GetFlag().Value.Type() {
		case "int":
			what = "not a whole number"
		case "bool":
			what = "neither true nor false"
		}
		err = fmt.Errorf("%s: %q is %s", option(invalid.GetFlag()), invalid.GetValue(), what)
	}
	return UsageError{fmt.Errorf("%w (see: %s --help)", err, cmd.CommandPath())}
}

// given says which arguments there are.
func given(args []string) string {
	switch len(args) {
	case 0:
		return "nothing was given"
	case 1:
		return fmt.Sprintf("%q was given", args[0])
	}
	return fmt.Sprintf("%d were given: %s", len(args), strings.Join(args, " "))
}
