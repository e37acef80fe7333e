package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/login"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

func newLogin(a *command.App) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "login [on|off]", Short: "Have the project start when you log in", Args: command.Takes(cobra.MatchAll(cobra.MaximumNArgs(1), cobra.OnlyValidArgs)), ValidArgs: []string{"on", "off"},
		Long: `Login says whether the project starts when you log in, and has it do so, or not any more.
For that it writes a unit of systemd's user manager, or on macOS an agent of launchd: it
shows the file, and asks. The PATH of now is in it, so that the same programs are found.`,
		Example: "  neighbour login\n  neighbour login on\n  neighbour login off",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if p.Copy != "" {
				return command.Misuse(errors.New("a copy does not start at login; leave --copy out"))
			}
			e, err := loginEntry(p)
			if err != nil {
				return err
			}
			switch strings.Join(args, "") {
			case "on":
				return loginOn(cmd.Context(), a, p, e, yes)
			case "off":
				return loginOff(cmd.Context(), a, p, e)
			}
			if e.On() {
				fmt.Fprintf(a.Out, "%s starts when you log in: %s\n", p.Name, display.Homely(e.Path))
				if !e.Current() {
					fmt.Fprintln(a.Err, "the program, its folder or PATH are others by now; neighbour login on brings the file up to date")
				}
			} else {
				fmt.Fprintf(a.Out, "%s does not start when you log in; neighbour login on has it do so\n", p.Name)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	return cmd
}

// loginEntry returns the file that has a project start at login.
func loginEntry(p *project.Project) (login.Entry, error) {
	return login.Of(p.Name, p.Dir, p.Self, "PATH="+os.Getenv("PATH"))
}

func loginOn(ctx context.Context, a *command.App, p *project.Project, e login.Entry, yes bool) error {
	if e.On() && e.Current() {
		fmt.Fprintf(a.Out, "%s starts when you log in already\n", p.Name)
		return nil
	}
	fmt.Fprintf(a.Err, "To be written to %s:\n\n", display.Homely(e.Path))
	for line := range strings.Lines(e.Text) {
		fmt.Fprintf(a.Err, "    %s\n", display.Clean(strings.TrimSuffix(line, "\n")))
	}
	if e.Link != "" {
		fmt.Fprintf(a.Err, "\nwith a link to it that makes it count: %s\n", display.Homely(e.Link))
	}
	if !yes {
		if ok, err := a.Confirm("Write it?"); err != nil || !ok {
			return err
		}
	}
	if err := e.Write(); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s starts when you log in from now on\n", p.Name)
	if !e.Tell(ctx) {
		fmt.Fprintln(a.Err, "systemd's user manager does not run here, or can't be asked: it counts where it does, from the next login on")
	}
	return nil
}

func loginOff(ctx context.Context, a *command.App, p *project.Project, e login.Entry) error {
	if !e.On() {
		fmt.Fprintf(a.Out, "%s does not start when you log in\n", p.Name)
		return e.Remove()
	}
	if err := e.Remove(); err != nil {
		return err
	}
	e.Tell(ctx)
	fmt.Fprintf(a.Out, "%s does not start when you log in any more; removed: %s\n", p.Name, display.Homely(e.Path))
	return nil
}
