package identity

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net"
	"os"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator"
)

func encode(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }

// Emulator is the provider, run alone.
var Emulator = emulator.Emulator{Name: "identity", Options: func(flags *flag.FlagSet) emulator.Serve {
	dir := flags.String("dir", ".", "the folder for keys, accounts and sign-ins")
	config := flags.String("config", "", "a file with who can sign in, as JSON")
	rules := flags.String("misbehave", "", "the file that says how it misbehaves")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		var c Config
		if *config != "" {
			b, err := os.ReadFile(*config)
			if err != nil {
				return err
			}
			if err := json.Unmarshal(b, &c); err != nil {
				return fmt.Errorf("%s: %w", *config, err)
			}
		}
		s, err := Open(*dir, c, log)
		if err != nil {
			return err
		}
		s.Misbehave = misbehave.Follow(*rules, log)
		log.Printf("%d people can sign in at http://%s", len(c.People), l.Addr())
		return s.Serve(ctx, l)
	}
}}
