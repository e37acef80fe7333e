// Package emulator says what an emulator is: a server that stands in for an
// outside service and runs alone, as a process of its own. Each is a folder
// below and a line in the catalogue; a kind of the core launches it.
package emulator

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"time"
)

// Emulator is one that can be run by its name.
type Emulator struct {
	Name string
	// Options defines the options, and returns what serves with them on a
	// listener until the context ends.
	Options func(*flag.FlagSet) Serve
}

// Serve serves on a listener until the context ends.
type Serve func(context.Context, net.Listener, *log.Logger) error

// UsageError says that a command line runs no emulator.
type UsageError struct{ Err error }

func (e *UsageError) Error() string { return e.Err.Error() }

// Unwrap returns what is wrong with the command line.
func (e *UsageError) Unwrap() error { return e.Err }

// Run runs the emulator that the first argument names, with the options that
// follow and --listen with its address, until the context ends. A command line
// that can't be understood is a *UsageError.
func Run(ctx context.Context, all []Emulator, args []string, out io.Writer) error {
	if len(args) == 0 {
		return &UsageError{errors.New("which emulator? " + names(all))}
	}
	for _, e := range all {
		if e.Name != args[0] {
			continue
		}
		flags := flag.NewFlagSet(e.Name, flag.ContinueOnError)
		flags.SetOutput(io.Discard)
		listen := flags.String("listen", "", "the address to listen on")
		serve := e.Options(flags)
		if err := flags.Parse(args[1:]); err != nil {
			return &UsageError{fmt.Errorf("%s: %w", e.Name, err)}
		}
		if *listen == "" || flags.NArg() > 0 {
			return &UsageError{fmt.Errorf("%s: it takes --listen with an address, and options", e.Name)}
		}
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return err
		}
		defer l.Close()
		return serve(ctx, l, log.New(out, "", 0)) // the journal knows the time
	}
	return &UsageError{fmt.Errorf("there is no emulator %q; there are: %s", args[0], names(all))}
}

// ServeHTTP answers HTTP on a listener until the context ends.
func ServeHTTP(ctx context.Context, l net.Listener, h http.Handler, log *log.Logger) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10, ErrorLog: log,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func names(all []Emulator) string {
	var out []string
	for _, e := range all {
		out = append(out, e.Name)
	}
	return strings.Join(out, ", ")
}
