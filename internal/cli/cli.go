// Package cli is the commands. Answers go to standard output, progress and
// errors to standard error.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/project"
)

// The exit codes.
const (
	done    = 0
	failed  = 1 // it did not work
	misused = 2 // a usage error
)

// usageError is an error in the words of the command.
type usageError struct{ error }

// silentError is a failure that was explained already.
type silentError struct{}

func (silentError) Error() string { return "failed" }

// app is what the commands share.
type app struct {
	dir  string // -C
	copy string // --copy
	// out and err are for people, and clean what is printed. Values that are
	// asked for as they are go to raw, and what changes lines in place to live.
	out, err  *cleaner
	raw, live *os.File
	screens   Screens
}

// Run carries out a command line, without the program's name, and returns
// the exit code.
func Run(args []string, screens Screens) int {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	a := &app{out: &cleaner{to: os.Stdout}, err: &cleaner{to: os.Stderr}, raw: os.Stdout, live: os.Stderr, screens: screens}
	return a.carryOut(ctx, args)
}

// carryOut carries out a command line, and returns the exit code.
func (a *app) carryOut(ctx context.Context, args []string) int {
	defer a.err.Flush()
	defer a.out.Flush()
	root := a.root()
	root.SetArgs(a.spelledOut(root, args))
	err := root.ExecuteContext(ctx)
	var usage usageError
	var silent silentError
	var exit exitError
	var unknown *declare.UnknownServiceError
	var profile *declare.UnknownProfileError
	switch {
	case err == nil:
		return done
	case errors.As(err, &exit):
		return exit.code
	case errors.As(err, &silent):
		return failed
	case errors.As(err, &usage), errors.As(err, &unknown), errors.As(err, &profile):
		fmt.Fprintln(a.err, "neighbour:", err)
		return misused
	}
	fmt.Fprintln(a.err, "neighbour:", err)
	return failed
}

// collectLess has garbage collected less often, up to an amount of memory in
// bytes. A start is a burst of garbage at the very time when the processor is
// wanted for what is started, and a screen should answer a key at once.
func collectLess(limit int64) {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(limit)
}

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false // they stand in the order in which they are used
	root := &cobra.Command{
		Use:   "neighbour",
		Short: "Starts what your app depends on, and watches it",
		Long: `Neighbour starts the databases, servers and programs that your app depends on,
in the order of what they need, and watches them. They are declared in the
file ` + declare.FileName + `. Without a command it shows them on a full screen.`,
		Example:       "  neighbour\n  neighbour start\n  neighbour -C ~/src/toolshed status",
		Version:       versionLine(),
		Args:          takes(cobra.NoArgs),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.open(cmd.Context())
		},
	}
	root.PersistentFlags().StringVarP(&a.dir, "dir", "C", ".", "the project's `folder`")
	root.PersistentFlags().StringVar(&a.copy, "copy", "", "the fresh copy of the project that has this `name`, in place of the project")
	root.SetFlagErrorFunc(misflagged)
	root.SetVersionTemplate("{{.Version}}\n")
	root.SetOut(a.raw)
	root.SetErr(a.err)
	for _, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"The working day:", []*cobra.Command{a.init(), a.check(), a.start(), a.stop(), a.restart(), a.apply(), a.status(), a.openPage(), a.run(), a.errands(), a.shell(), a.demo()}},
		{"What goes on, and why:", []*cobra.Command{a.logs(), a.env(), a.starts(), a.operations(), a.traffic(), a.draw()}},
		{"What services hold and do:", []*cobra.Command{a.data(), a.ask(), a.console(), a.dump(), a.load(), a.migrations(), a.reset(), a.snapshots(), a.trigger(), a.call(), a.token()}},
		{"This machine, and all projects on it:", []*cobra.Command{a.projects(), a.rest(), a.gate(), a.trust(), a.login(), a.vouch(), a.purge()}},
		{"About Neighbour:", []*cobra.Command{a.schema(), a.version()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.title
			root.AddCommand(c)
		}
		root.SetHelpCommandGroupID(g.title) // the last
		root.SetCompletionCommandGroupID(g.title)
	}
	root.AddCommand(a.keep(), a.emulate(), a.sendmail(), a.toolshed(), a.gateProcess())
	return root
}

func names(root *cobra.Command) []string {
	var out []string
	for _, c := range root.Commands() {
		if !c.Hidden {
			out = append(out, c.Name())
		}
	}
	return out
}

// project opens the project of -C.
func (a *app) project() (*project.Project, error) {
	if err := a.enterCopy(); err != nil {
		return nil, err
	}
	p, err := project.Open(a.dir)
	var copied *project.CopiedError
	if errors.As(err, &copied) && terminal(os.Stdin) {
		yes, askErr := a.askYes(fmt.Sprintf("%s is a copy of %s. Have it be a project of its own? It gets a copy of the data, and other ports; nothing of the other is touched.", copied.Dir, copied.From))
		if askErr != nil || !yes {
			return nil, errors.Join(askErr, err)
		}
		if _, err := project.Vouch(a.dir, false); err != nil {
			return nil, err
		}
		p, err = project.Open(a.dir)
	}
	if err == nil && p.LostProfile != "" {
		fmt.Fprintf(a.err, "%s has no profile %s any more; what runs goes on with it until it is stopped\n", declare.FileName, p.LostProfile)
	}
	var none *declare.MissingError
	if errors.As(err, &none) {
		if left := project.Undeclared(a.dir); left != nil && api.Busy(context.Background(), left) {
			return nil, &undeclaredError{left, err}
		}
	}
	return p, err
}

// undeclaredError says that a project runs which has no declaration any more.
type undeclaredError struct {
	project *project.Project
	err     error
}

func (e *undeclaredError) Unwrap() error { return e.err }

func (e *undeclaredError) Error() string {
	return fmt.Sprintf("there is no %s in %s any more, and what it declared runs still: bring it back, or end that with: neighbour stop", declare.FileName, e.project.Dir)
}

// services completes the names of services.
func (a *app) services(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.project()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return p.Names(), cobra.ShellCompDirectiveNoFileComp
}

// open shows the project on the full screen.
func (a *app) open(ctx context.Context) error {
	p, err := a.project()
	var none *declare.MissingError
	var runs *undeclaredError
	if errors.As(err, &none) && !errors.As(err, &runs) && fullScreen() {
		if written, err := a.propose(ctx); err != nil || !written {
			return err
		}
		p, err = a.project()
	}
	if err != nil {
		return err
	}
	if !fullScreen() {
		return usageError{errors.New(`the full screen needs a terminal that can show one; "neighbour status" prints the same as text`)}
	}
	client, err := api.Connect(ctx, p)
	if err != nil {
		return err
	}
	left, err := a.show(ctx, p, client)
	client.Close()
	if left.Stopped && err == nil {
		fmt.Fprintf(a.out, "%s: everything is stopped; the data stays in %s\n", p.Name, p.StateFolder())
	}
	if err != nil || left.Next == "" {
		return err
	}
	a.dir, a.copy = left.Next, ""
	return a.open(ctx)
}

// fullScreen reports whether there is a terminal that can show one.
func fullScreen() bool {
	return terminal(os.Stdin) && terminal(os.Stdout) && os.Getenv("TERM") != "dumb"
}

// show runs the full screen, and says afterwards what goes on. When the user
// has stopped everything, it returns once the keeper has ended.
func (a *app) show(ctx context.Context, p *project.Project, client *api.Client) (Left, error) {
	collectLess(96 << 20)
	left, err := a.screens.Run(ctx, ScreenOptions{
		Client:  client,
		Connect: func(ctx context.Context) (*api.Client, error) { return api.Connect(ctx, p) },
		Refresh: func(ctx context.Context, c *api.Client) (*api.Client, error) {
			now, err := project.Open(p.Home())
			if err != nil {
				return c, err
			}
			fresh, _, _, err := api.Refresh(ctx, now, c)
			return fresh, err
		},
	})
	if err != nil || left.Next != "" {
		return left, err
	}
	if left.Stopped {
		return left, api.AwaitEnd(p)
	}
	if left.Running > 0 {
		fmt.Fprintf(a.out, "%s: %d of %d services go on; stop them with: %s%s stop\n", p.Name, left.Running, left.Services, programName(), a.dirFlag(p))
	}
	return left, nil
}

// programName returns what to type to run this program again from the current
// directory: "neighbour" if PATH leads to it, else the path it was called by.
func programName() string {
	const usual = "neighbour"
	self, err := os.Executable()
	if err != nil {
		return usual
	}
	if found, err := exec.LookPath(usual); err == nil && sameFile(found, self) {
		return usual
	}
	if called := os.Args[0]; strings.ContainsRune(called, filepath.Separator) && sameFile(called, self) {
		return wire.QuoteCommand([]string{called})
	}
	return wire.QuoteCommand([]string{self})
}

// sameFile reports whether two paths lead to one file.
func sameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// dirFlag returns the -C that leads to a project from here, if it needs one.
func (a *app) dirFlag(p *project.Project) string {
	if here, err := project.Open("."); err == nil && here.Home() == p.Home() {
		return ""
	} else if err == nil && here.Dir == p.Dir {
		return " --copy " + p.Copy
	}
	return " -C " + p.Home()
}
