// Package outside is the kind of what runs elsewhere and is only checked.
package outside

import (
	"maps"
	"net"
	"net/url"
	"slices"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys. What is checked is the service's health.
type Settings struct {
	Facts map[string]declare.Text `toml:"facts" doc:"what others may refer to: { url = \"http://127.0.0.1:7070\" }; host and port are those of its check"`
}

// FactNames returns the declared facts, and the address of its check.
func (s *Settings) FactNames() []string {
	names := slices.Sorted(maps.Keys(s.Facts))
	for _, own := range []string{"host", "port"} {
		if !slices.Contains(names, own) {
			names = append(names, own)
		}
	}
	return names
}

const example = `
[service.tariffs]
kind = "outside"
health = { tcp = "127.0.0.1:7070" }
facts = { url = "http://127.0.0.1:7070/v2" }
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

// Facts returns those declared, and the host and port of its check.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	facts := map[string]kind.Fact{}
	if h := in.Service.Health; h != nil {
		host, port, err := net.SplitHostPort(h.TCP.Value)
		if u, bad := url.Parse(h.HTTP.Value); err != nil && bad == nil && u.Host != "" {
			host, port, err = u.Hostname(), u.Port(), nil
			if port == "" {
				port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
			}
		}
		if err == nil {
			facts["host"], facts["port"] = kind.Fact{Value: host}, kind.Fact{Value: port}
		}
	}
	for name, text := range in.Service.Settings.(*Settings).Facts {
		f, err := in.Expand(text.Value)
		if err != nil {
			return nil, err
		}
		facts[name] = f
	}
	return facts, nil
}

// Probe returns none: the declaration says how it is checked.
func (Kind) Probe(*kind.Instance) (probe.Probe, error) { return nil, nil }
