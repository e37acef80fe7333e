package cli

import (
	"context"
	"log"
	"net"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/demo"
	"neighbour/internal/emulator/mail"
	"neighbour/internal/emulator/static"
)

// The hidden commands are processes that Neighbour starts itself.

func (a *app) keep() *cobra.Command {
	var profile string
	var start []string
	cmd := &cobra.Command{
		Use: api.KeepCommand, Hidden: true, Args: words(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			// The terminal that started it may close.
			signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
			collectLess(96 << 20)
			return api.Keep(cmd.Context(), a.dir, profile, start)
		},
	}
	cmd.Flags().StringVar(&profile, "profile", "", "the `profile`")
	cmd.Flags().StringSliceVar(&start, "start", nil, "the `services` to start")
	return cmd
}

func (a *app) emulate() *cobra.Command {
	group := &cobra.Command{Use: "emulate", Hidden: true}
	var listen, dir string
	post := &cobra.Command{
		Use: "mail", Args: words(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return serveMail(cmd.Context(), listen, dir) },
	}
	post.Flags().StringVar(&listen, "listen", "127.0.0.1:1025", "the `address` to listen on")
	post.Flags().StringVar(&dir, "dir", ".", "the `folder` for the messages")
	var files static.Options
	var address string
	web := &cobra.Command{
		Use: "static", Args: words(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := net.Listen("tcp", address)
			if err != nil {
				return err
			}
			log := log.New(os.Stdout, "", 0)
			log.Printf("serving %s on %s", files.Root, l.Addr())
			return static.Serve(cmd.Context(), l, files, log)
		},
	}
	web.Flags().StringVar(&address, "listen", "127.0.0.1:8080", "the `address` to listen on")
	web.Flags().StringVar(&files.Root, "root", ".", "the `folder` to serve")
	web.Flags().StringVar(&files.Fallback, "fallback", "", "the `file` served for addresses that are no file's")
	web.Flags().BoolVar(&files.Listing, "listing", false, "list folders without an index")
	web.Flags().StringSliceVar(&files.Hosts, "host", nil, "another `name` that it answers to")
	web.Flags().StringVar(&files.Ready, "ready", "", "an `address` that says that it is ready")
	group.AddCommand(post, web)
	return group
}

func serveMail(ctx context.Context, listen, dir string) error {
	log := log.New(os.Stdout, "", 0) // the journal knows the time
	store, err := mail.OpenStore(dir)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	log.Printf("taking mail on %s, %d messages so far", l.Addr(), store.Latest().Count)
	return mail.Serve(ctx, l, store, log)
}

func (a *app) toolshed() *cobra.Command {
	return &cobra.Command{
		Use: demo.Command + " PROGRAM", Hidden: true, Args: words(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error { return demo.RunProgram(cmd.Context(), args[0]) },
	}
}
