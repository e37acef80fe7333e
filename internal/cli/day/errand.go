package day

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/creack/pty"
	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/errand"
)

func newRun(a *command.App) *cobra.Command {
	var with string
	var yes bool
	var f freshFlags
	cmd := &cobra.Command{
		Use: "run ERRAND [ARG...] | run --with SERVICE -- COMMAND...", Short: "Run an errand, or a command with the environment that a service gets",
		Long: `Run runs an errand of the declaration: what it needs is started first and left
running, and it gets the folder and the environment of its service. Arguments are
passed on as they are. As long as no command has its name, "neighbour ERRAND"
does the same.

With --with it runs any command in the folder and with the environment of a
service. With a server, it gets what leads to that server: its facts, as
LEDGER_URL for those of the service ledger, and the variables that its own
clients read, such as PGHOST. The exit code is the command's.

With --fresh it runs on a fresh copy of the project: a second set of the services that
are needed, beside those that run, with ports and data of their own, migrated and
seeded. All of it is gone afterwards. A command without --with gets what leads to all
services.`,
		Args:              command.Takes(cobra.MinimumNArgs(1)),
		Example:           "  neighbour run overdue --dry-run\n  neighbour run --with api -- node scripts/overdue.js\n  neighbour run --with ledger -- pg_dump > toolshed.sql\n  neighbour run --fresh test\n  neighbour run --fresh --from bug-17 --with api -- npm test",
		ValidArgsFunction: a.CompleteErrands,
		RunE: func(cmd *cobra.Command, argv []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if e := p.Errand(argv[0]); f.asked() || e != nil && e.Fresh && p.Copy == "" && with == "" && cmd.ArgsLenAtDash() != 0 {
				f.with, f.yes, f.command = with, yes, cmd.ArgsLenAtDash() == 0 || with != ""
				return runFresh(cmd.Context(), a, p, f, argv)
			}
			if with == "" {
				return runErrand(cmd.Context(), a, p, argv[0], argv[1:], yes)
			}
			if err := p.Check(with); err != nil {
				return err
			}
			env, err := command.EnvironmentWith(cmd.Context(), p, with)
			if err != nil {
				return err
			}
			return command.Replace(argv, env, p.WorkingDir(p.Service(with)))
		},
	}
	cmd.Flags().StringVar(&with, "with", "", "the `service` whose folder and environment a command gets")
	cmd.Flags().BoolVar(&yes, "yes", false, "answer the question of an errand that asks one")
	cmd.Flags().BoolVar(&f.fresh, "fresh", false, "on a fresh copy of the project, which is gone afterwards")
	cmd.Flags().StringVar(&f.from, "from", "", "with --fresh, with the data of a `snapshot`")
	cmd.Flags().StringVar(&f.stay, "keep", "", "with --fresh, have the copy stay, under a `name`")
	cmd.Flags().StringVar(&f.junit, "junit", "", "with --fresh, write how it went to a `file` of JUnit XML")
	cmd.Flags().IntVar(&f.copies, "copies", 0, "with --fresh, on `n` copies at once")
	_ = cmd.RegisterFlagCompletionFunc("from", a.CompleteSnapshots)
	cmd.Flags().SetInterspersed(false) // what comes after the errand is the errand's
	_ = cmd.RegisterFlagCompletionFunc("with", a.CompleteServices)
	return cmd
}

func unknownErrand(p *project.Project, name string) error {
	var names []string
	for _, e := range p.Errands {
		names = append(names, e.Name)
	}
	text := fmt.Sprintf("there is no errand %q", name)
	switch near := declare.Nearest(name, names); {
	case len(names) == 0:
		text += "; none is declared. A command that is not: neighbour run --with SERVICE -- COMMAND"
	case near != "":
		text += fmt.Sprintf("; did you mean %q?", near)
	default:
		text += "; declared: " + strings.Join(names, ", ")
	}
	return command.Misuse(errors.New(text))
}

// runErrand runs an errand in this terminal, and keeps how that went.
func runErrand(ctx context.Context, a *command.App, p *project.Project, name string, args []string, yes bool) error {
	e := p.Errand(name)
	if e == nil {
		return unknownErrand(p, name)
	}
	if e.Ask != "" && !yes {
		ok, err := a.Confirm(e.Ask)
		if err != nil || !ok {
			return err
		}
	}
	if err := p.EnsureDirs(); err != nil {
		return err
	}
	by := fmt.Sprintf("neighbour run, pid %d", os.Getpid())
	rec, err := errand.NewStore(p.ErrandDir()).Begin(errand.Run{Errand: name, Args: args, By: by, Unkept: e.Terminal, Copy: p.Copy})
	if err != nil {
		return fmt.Errorf("what becomes of errand %s can't be kept: %w", name, err)
	}
	end := func(ok bool, exit, line string, err error) error {
		_, saving := rec.End(ok, exit, p.Mask(line))
		return errors.Join(err, saving)
	}
	if err := startFor(ctx, a, p, e); err != nil {
		if ctx.Err() != nil {
			rec.Cancelled()
		}
		why := "what it needs is not ready"
		fmt.Fprintln(rec, why)
		return end(false, why, "", err)
	}
	vars, err := command.WithService(ctx, p, e.WithService())
	if err != nil {
		return end(false, err.Error(), "", err)
	}
	c, err := p.ErrandCommand(e, args, vars)
	if err == nil {
		c.Argv[0], err = c.Program()
	}
	if err != nil {
		fmt.Fprintln(rec, err)
		return end(false, err.Error(), "", fmt.Errorf("errand %s: %w", name, err))
	}
	var latest launch.Tail
	code, said, err := inTerminal(a, c, e.Terminal, rec, io.MultiWriter(rec, &latest))
	if err != nil {
		return end(false, err.Error(), "", fmt.Errorf("errand %s: %w", name, err))
	}
	line := latest.Last()
	if code != 0 {
		line = latest.Cause()
		err = command.Exit(code)
	}
	return end(code == 0, said, line, err)
}

// startFor starts what an errand needs and waits until that is ready.
func startFor(ctx context.Context, a *command.App, p *project.Project, e *declare.Errand) error {
	if len(e.Needs) == 0 {
		return nil
	}
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return err
	}
	missing := slices.DeleteFunc(slices.Clone(e.Needs), func(n string) bool {
		st := current[n]
		return st.Shown().Well() || st.State == supervise.Ailing
	})
	if len(missing) == 0 {
		return nil
	}
	who := "errand " + e.Name
	if e.Name == "" { // a command on a fresh copy
		who = "it"
	}
	fmt.Fprintf(a.Err, "%s needs %s; starting that first\n", who, words.Join(missing))
	p, client, _, err := a.Connect(ctx, a.Project, missing, nil)
	if err != nil {
		return err
	}
	defer client.Close()
	quiet := *a
	quiet.Out = a.Err // its own output goes to whoever reads the errand's
	return quiet.Follow(ctx, p, client, missing, false, func() (api.Done, error) { return client.Start(ctx, false, missing...) })
}

// inTerminal runs a command with this process's standard input and, as far as it
// can tell, terminal. What it prints goes to where this process's output goes
// and is kept, unless it wants the terminal to itself.
func inTerminal(a *command.App, c project.Command, whole bool, rec *errand.Recording, kept io.Writer) (code int, said string, err error) {
	a.Out.Flush()
	a.Err.Flush()
	cmd := exec.Command(c.Argv[0], c.Argv[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdin = c.Dir, c.Environ(), os.Stdin
	cmd.WaitDelay = 200 * time.Millisecond // what it leaves in the background may have the output
	done := func() {}
	if whole {
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	} else if done, err = tee(a, cmd, kept); err != nil {
		return 0, "", err
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		done()
		return 0, "", fmt.Errorf("%s can't be started: %w", c.Argv[0], errors.Unwrap(err))
	}
	if id, err := proc.Identify(cmd.Process.Pid); err == nil {
		_ = rec.Started(id)
	}
	ended := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-signals:
				// The terminal itself sends these to all that is in its foreground.
				if typed := s == syscall.SIGINT || s == syscall.SIGQUIT; !typed || !term.IsTerminal(os.Stdin.Fd()) {
					_ = cmd.Process.Signal(s)
				}
				if s != syscall.SIGUSR1 && s != syscall.SIGUSR2 {
					rec.Cancelled()
				}
			case <-ended:
				return
			}
		}
	}()
	_ = cmd.Wait()
	close(ended)
	done()
	status, _ := cmd.ProcessState.Sys().(syscall.WaitStatus)
	if status.Signaled() {
		return 128 + int(status.Signal()), "ended by " + status.Signal().String(), nil
	}
	return cmd.ProcessState.ExitCode(), fmt.Sprintf("exit %d", cmd.ProcessState.ExitCode()), nil
}

// tee has what a command prints go to this process's output and to another
// writer. If that output is a terminal, so it is for the command. Done is to be
// called when the command has ended.
func tee(a *command.App, cmd *exec.Cmd, kept io.Writer) (done func(), err error) {
	done = func() {}
	cmd.Stdout, cmd.Stderr = io.MultiWriter(os.Stdout, kept), io.MultiWriter(os.Stderr, kept)
	onTerminal := [2]bool{term.IsTerminal(os.Stdout.Fd()), term.IsTerminal(os.Stderr.Fd())}
	if !onTerminal[0] && !onTerminal[1] {
		return done, nil
	}
	ours, its, err := pty.Open()
	if err != nil {
		return done, err
	}
	if _, err := term.MakeRaw(its.Fd()); err != nil { // the real one does what terminals do to output
		return done, errors.Join(err, ours.Close(), its.Close())
	}
	size := os.Stdout
	if onTerminal[0] {
		cmd.Stdout = its
	} else {
		size = os.Stderr
	}
	if onTerminal[1] {
		cmd.Stderr = its
	}
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	resized <- syscall.SIGWINCH
	go func() {
		for range resized {
			_ = pty.InheritSize(size, ours)
		}
	}()
	copied := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.MultiWriter(size, kept), ours)
		close(copied)
	}()
	return func() {
		its.Close()
		select {
		case <-copied:
		case <-time.After(200 * time.Millisecond):
		}
		signal.Stop(resized)
		close(resized)
		ours.Close()
	}, nil
}

func newErrands(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "errands", Short: "List the errands, and how they went last", Example: "  neighbour errands\n  neighbour errands --json",
		Long: `Errands lists the one-off commands of the declaration: what each is for, what it
needs, and how it went the last times, also from the full screen or before a start.`,
		Args: command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			all, err := api.Ask(cmd.Context(), p).Errands(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return a.JSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintf(a.Err, "%s declares no errands; [errand.NAME] with run = \"…\" is one\n", p.Name)
				return nil
			}
			rows := [][]string{{"errand", "", "last", "took", "when", ""}}
			for _, e := range all {
				result, took, when := "", "", ""
				if r, ran := e.Last(); ran {
					result, when = string(r.Result), words.Span(time.Since(r.Began))+" ago"
					if r.Took > 0 {
						took = words.Millis(r.Took)
					}
					if r.Result == errand.Failed {
						result = r.Exit
					}
				}
				rows = append(rows, []string{e.Name, e.About, result, took, when, strings.TrimSuffix(e.WhenInWords()+"; due: "+e.Due, "; due: ")})
			}
			return command.PrintTable(a.Out, rows, 3, 4)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func newShell(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "shell SERVICE", Example: "  neighbour shell api", Short: "Open your shell in the folder and with the environment of a service",
		Long: `Shell opens your shell, that of the variable SHELL, in the folder of a service
and with the environment that it gets; with a server, with what leads to it. The
service need not run.`,
		Args: command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.Check(names[0]); err != nil {
				return err
			}
			env, err := command.EnvironmentWith(cmd.Context(), p, names[0])
			if err != nil {
				return err
			}
			shell := os.Getenv("SHELL")
			if shell == "" {
				shell = "/bin/sh"
			}
			return command.Replace([]string{shell}, env, p.WorkingDir(p.Service(names[0])))
		},
	}
}
