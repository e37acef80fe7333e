package static

import (
	"context"
	"flag"
	"log"
	"net"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator"
)

// Emulator is the web server, run alone.
var Emulator = emulator.Emulator{Name: "static", Options: func(flags *flag.FlagSet) emulator.Serve {
	var o Options
	flags.StringVar(&o.Root, "root", ".", "the folder to serve")
	flags.StringVar(&o.Fallback, "fallback", "", "the file served for addresses that are no file's")
	flags.BoolVar(&o.Listing, "listing", false, "list folders without an index")
	flags.Func("host", "another name that it answers to", func(name string) error {
		o.Hosts = append(o.Hosts, name)
		return nil
	})
	flags.StringVar(&o.Ready, "ready", "", "an address that says that it is ready")
	rules := flags.String("misbehave", "", "the file that says what it does wrong")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		o.Misbehave = misbehave.Follow(*rules, log)
		log.Printf("serving %s on %s", o.Root, l.Addr())
		return Serve(ctx, l, o, log)
	}
}}
