// Package stub stands in for somebody else's HTTP API: it answers from an OpenAPI document, from
// declared routes, or from what the real one answered once. It remembers what it was asked, so
// that tests can look at that, and sends webhooks.
package stub

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net"
	"os"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator"
)

// Route is a declared answer.
type Route struct {
	// On is a method and a path, whose parts in braces are left open: "GET /charges/{id}".
	On string `json:"on"`
	// When are values that a request must have, by their places: "body.amount", "query.page",
	// "headers.accept", "path.id", "state.paid"; "*" is any.
	When map[string]string `json:"when,omitempty"`
	// Calls says of which requests it is the answer, counted from 1: "3", "2-4", "5-"; "": all.
	Calls   string            `json:"calls,omitempty"`
	Status  int               `json:"status,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	// Answer is a template of the body, File a file that has it.
	Answer string        `json:"answer,omitempty"`
	File   string        `json:"file,omitempty"`
	Delay  time.Duration `json:"delay,omitempty"`
	// Set are values to remember, as templates: what routes ask for as state.
	Set map[string]string `json:"set,omitempty"`
	// Hook is the webhook that is sent after it.
	Hook string `json:"hook,omitempty"`
}

// Hook is a webhook.
type Hook struct {
	// To is where it is sent, Body a template of what is.
	To      string            `json:"to"`
	Body    string            `json:"body,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	// After is the route, method and path, after whose answer it is sent, with a status below
	// 400; "": by hand, or by a route that names it.
	After string        `json:"after,omitempty"`
	Delay time.Duration `json:"delay,omitempty"`
	// Header is the one that has the signature, Sign a template of its value. Without it the
	// headers are webhook-id, webhook-timestamp and webhook-signature.
	Header string `json:"header,omitempty"`
	Sign   string `json:"sign,omitempty"`
	Tries  int    `json:"tries,omitempty"`
}

// Config says how a stub answers.
type Config struct {
	// OpenAPI is the path of an OpenAPI 3 document.
	OpenAPI string `json:"openapi,omitempty"`
	// Seed makes other values of the same schemas.
	Seed int64 `json:"seed,omitempty"`
	// Lax answers also requests that the document does not allow, and only says so.
	Lax    bool    `json:"lax,omitempty"`
	Routes []Route `json:"routes,omitempty"`
	// Record is the address of the real API, which is asked for what isn't recorded yet.
	// Recordings is the folder of what is.
	Record     string `json:"record,omitempty"`
	Recordings string `json:"recordings,omitempty"`
	// Offline says why the real API may not be asked; "": it may.
	Offline string          `json:"offline,omitempty"`
	Hooks   map[string]Hook `json:"hooks,omitempty"`
	// Secret signs webhooks.
	Secret string `json:"secret,omitempty"`
	// Names are the host names by which it is asked, beside those of this machine.
	Names []string `json:"names,omitempty"`
	// CORS are the pages of other sites that may call it.
	CORS emulator.Pages `json:"cors,omitempty"`
	// Root is the folder that files are found from.
	Root string `json:"root,omitempty"`
}

// Emulator runs a stub alone.
var Emulator = emulator.Emulator{Name: "stub", Options: func(flags *flag.FlagSet) emulator.Serve {
	config := flags.String("config", "", "a file with the answers, as JSON")
	dir := flags.String("dir", ".", "the folder for webhooks that wait")
	rules := flags.String("misbehave", "", "the file that says how it misbehaves")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		var c Config
		if *config != "" {
			b, err := os.ReadFile(*config)
			if err == nil {
				err = json.Unmarshal(b, &c)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", *config, err)
			}
		}
		s, err := New(c, *dir, log)
		if err != nil {
			return err
		}
		s.Misbehave = misbehave.Follow(*rules, log)
		log.Printf("%s at http://%s", s.says(), l.Addr())
		return s.Serve(ctx, l)
	}
}}
