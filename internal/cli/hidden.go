package cli

import (
	"errors"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/kind"
	"neighbour/internal/demo"
	"neighbour/internal/emulator"
	"neighbour/internal/emulator/catalogue"
	"neighbour/internal/emulator/mail"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/server"
	"neighbour/internal/kinds/php"
)

// The hidden commands are processes that Neighbour starts itself.

func newKeep(a *command.App) *cobra.Command {
	var profile string
	var start []string
	cmd := &cobra.Command{
		Use: api.KeepCommand, Hidden: true, Args: command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			// The terminal that started it may close.
			signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
			command.CollectLess(56 << 20)
			return api.Keep(cmd.Context(), a.Dir, profile, start)
		},
	}
	cmd.Flags().StringVar(&profile, "profile", "", "the `profile`")
	cmd.Flags().StringSliceVar(&start, "start", nil, "the `services` to start")
	return cmd
}

func newEmulate(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: kind.EmulatorCommand, Hidden: true, DisableFlagParsing: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			err := emulator.Run(cmd.Context(), catalogue.All, args, os.Stdout)
			if usage := (*emulator.UsageError)(nil); errors.As(err, &usage) {
				return command.Misuse(err)
			}
			return err
		},
	}
}

// newSendmail takes the options that programs give a sendmail, none of which change where a mail
// goes here.
func newSendmail(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: php.SendmailCommand, Hidden: true, DisableFlagParsing: true,
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return command.Misuse(errors.New("where to is missing"))
			}
			var to []string
			for _, arg := range args[1:] {
				if strings.Contains(arg, "@") && !strings.HasPrefix(arg, "-") {
					to = append(to, arg)
				}
			}
			return mail.Submit(args[0], to, os.Stdin)
		},
	}
}

func newToolshed(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: demo.Command + " PROGRAM", Hidden: true, Args: command.Takes(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error { return demo.RunProgram(cmd.Context(), args[0]) },
	}
}

func newGateProcess(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: control.Command, Hidden: true, Args: command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
			return server.Run(cmd.Context(), func(socket string) server.Keeper { return api.NewClient(socket) }, slog.New(slog.NewTextHandler(os.Stderr, nil)))
		},
	}
}
