// Package outside is the kind of what runs elsewhere and is only checked.
package outside

import (
	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys: none. What is checked is the service's health.
type Settings struct{}

const example = `
[service.tariffs]
kind = "outside"
health = { tcp = "127.0.0.1:7070" }
optional = true
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "outside", Begin: `health = { tcp = "127.0.0.1:7070" }`, Example: example, About: "runs elsewhere, only checked", Elsewhere: true}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find finds nothing, since nothing is started.
func (Kind) Find(*kind.Instance) (kind.Program, error) { return kind.Program{}, nil }

// Launch starts nothing.
func (Kind) Launch(*kind.Instance) (kind.Launch, error) { return kind.Launch{}, nil }

// Facts are none.
func (Kind) Facts(*kind.Instance) (map[string]kind.Fact, error) { return nil, nil }

// Probe is none: the declaration says how it is checked.
func (Kind) Probe(*kind.Instance) (probe.Probe, error) { return nil, nil }
