// Package nats is the kind of NATS servers.
package nats

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version   declare.Constraint  `toml:"version" doc:"which versions will do"`
	JetStream bool                `toml:"jetstream" doc:"keep messages on disk"`
	Streams   map[string][]string `toml:"streams" doc:"streams to create, each with its subjects; they need jetstream"`
}

// Check reports streams that can't be.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if len(s.Streams) > 0 && !s.JetStream {
		report("streams", "streams are kept by JetStream, which is off", "add jetstream = true")
	}
	for name, subjects := range s.Streams {
		if len(subjects) == 0 {
			report("streams."+name, "has no subjects", `write for example ["loans.*"]`)
		}
	}
}

const example = `
[service.bus]
kind = "nats"
jetstream = true
streams = { LOANS = ["loans.*"] }
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "nats", Changes: []string{kind.Message}, Takes: true, Packages: finder.Packages, Example: example, About: "NATS", Check: "connect", Listens: true, UsualPort: 4222, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "NATS", Program: "nats-server", Places: kind.Places("nats-server"),
	Packages: kind.Packages{Debian: "nats-server", Homebrew: "nats-server"},
	Version:  lazyregexp.New(`v(\d+\.\d+(?:\.\d+)?)`),
}

// Find looks for nats-server.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

// Launch starts the server. INT closes its streams in order.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "--addr", "127.0.0.1", "--port", strconv.Itoa(in.Port)}
	if in.Service.Settings.(*Settings).JetStream {
		argv = append(argv, "--jetstream", "--store_dir", filepath.Join(in.Data, "jetstream"))
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "INT"}, nil
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "nats"), nil }

func connect(ctx context.Context, in *kind.Instance) (*client.Conn, error) {
	timeout := 5 * time.Second
	if deadline, ok := ctx.Deadline(); ok {
		timeout = time.Until(deadline)
	}
	c, err := client.Connect("nats://127.0.0.1:"+strconv.Itoa(in.Port), client.Name("neighbour"), client.NoReconnect(), client.Timeout(timeout))
	if errors.Is(err, client.ErrNoServers) { // which is what a refused connection is to the client
		return nil, errors.New("connection refused")
	}
	if err != nil {
		return nil, errors.New(probe.Explain(err))
	}
	return c, nil
}

// Probe connects, which waits for the server's INFO and its PONG.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		c, err := connect(ctx, in)
		if err != nil {
			return "", err
		}
		c.Close()
		return "answers a connect", nil
	}), nil
}

// Provision makes the start of one server.
func (k Kind) Provision(in *kind.Instance) kind.Provisioning {
	check, _ := k.Probe(in) // never fails
	return &provisioning{check, in}
}

// provisioning creates the declared streams, and changes those whose subjects
// are declared otherwise now.
type provisioning struct {
	probe.Probe
	in *kind.Instance
}

func (p *provisioning) Provision(ctx context.Context, report func(string)) error {
	streams := p.in.Service.Settings.(*Settings).Streams
	if len(streams) == 0 {
		return nil
	}
	c, err := connect(ctx, p.in)
	if err != nil {
		return err
	}
	defer c.Close()
	js, err := jetstream.New(c)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(streams)) {
		report("stream " + name)
		if _, err := js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: name, Subjects: streams[name]}); err != nil {
			return fmt.Errorf("stream %s: %w", name, err)
		}
	}
	return nil
}

// ClientVariables returns the one that the programs of NATS read.
func (Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	return map[string]string{"NATS_URL": "nats://127.0.0.1:" + strconv.Itoa(in.Port)}, nil
}
