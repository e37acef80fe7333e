// Package borrowed is the kind of a service that another project of the same user declares and
// starts: here it is only waited for, checked and referred to.
package borrowed

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Project string `toml:"project" doc:"the folder of the other project: \"../accounts\""`
	Service string `toml:"service" doc:"the name of the service there"`
}

// Check finds keys without which nothing can be found.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if s.Project == "" {
		report("project", "is missing", `write the folder of the other project: project = "../accounts"`)
	}
	if s.Service == "" {
		report("service", "is missing", `write the name of the service there: service = "ledger"`)
	}
}

// Borrowed returns the folder of the other project, as it is written, and the service there.
func (s *Settings) Borrowed() (project, service string) { return s.Project, s.Service }

// CommandLine says what starting it starts.
func (s *Settings) CommandLine() string { return s.Service + " of " + s.Project }

const example = `
[service.ledger]
kind = "project"
project = "../accounts"
service = "ledger"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "project", Begin: "project = \"../accounts\"\nservice = \"ledger\"", Example: example, About: "service of another project",
		Check: "how it is there, as its project says", Elsewhere: true, AnyFact: true}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find finds nothing, since nothing is started by this project.
func (Kind) Find(*kind.Instance) (kind.Program, error) { return kind.Program{}, nil }

// Launch starts nothing.
func (Kind) Launch(*kind.Instance) (kind.Launch, error) { return kind.Launch{}, nil }

// of returns the folder of the other project, and the service there.
func of(in *kind.Instance) (dir, service string) {
	s := in.Service.Settings.(*Settings)
	if dir = s.Project; !filepath.IsAbs(dir) {
		dir = filepath.Join(in.Root, dir)
	}
	return dir, s.Service
}

// Facts returns those that it has there.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	if in.Others == nil {
		return nil, nil
	}
	dir, service := of(in)
	return in.Others.Facts(dir, service)
}

var errNoOthers = errors.New("other projects can't be asked from here")

// Prepare has the other project start it, and waits until it is ready.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, report func(step string)) error {
	if in.Others == nil {
		return errNoOthers
	}
	dir, service := of(in)
	return in.Others.Start(ctx, dir, service, report)
}

// Warn says of a fresh copy what it shares.
func (Kind) Warn(in *kind.Instance) []string {
	if !in.Copy {
		return nil
	}
	dir, service := of(in)
	return []string{fmt.Sprintf("it is %s of %s itself, of which there is no copy: what is written to it stays", service, filepath.Base(dir))}
}

// Probe asks the other project how it is.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	if in.Others == nil {
		return nil, errNoOthers
	}
	dir, service := of(in)
	return probe.Func(func(ctx context.Context) (string, error) { return in.Others.State(ctx, dir, service) }), nil
}
