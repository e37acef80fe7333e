package mail

import (
	"context"
	"flag"
	"log"
	"net"

	"neighbour/internal/emulator"
)

// Emulator is the mail server, run alone.
var Emulator = emulator.Emulator{Name: "mail", Options: func(flags *flag.FlagSet) emulator.Serve {
	dir := flags.String("dir", ".", "the folder for the messages")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		store, err := OpenStore(*dir)
		if err != nil {
			return err
		}
		log.Printf("taking mail on %s, %d messages so far", l.Addr(), store.Latest().Count)
		return Serve(ctx, l, store, log)
	}
}}
