// Package memcached is the kind of memcached servers.
package memcached

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/bradfitz/gomemcache/memcache"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version declare.Constraint `toml:"version" doc:"which versions will do"`
	Memory  int                `toml:"memory" doc:"how much it may remember, in megabytes (64)"`
}

// defaultMemory is memcached's own, in megabytes.
const defaultMemory = 64

// Check reports an amount that can't be.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if s.Memory < 0 {
		report("memory", fmt.Sprintf("%d is not an amount of memory", s.Memory), "write megabytes, for example 64")
	}
}

const example = `
[service.shelf]
kind = "memcached"
memory = 128

[service.api]
run = "node server.js"
env.CACHE = "${shelf.address}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "memcached", NoData: true, Packages: finder.Packages, Example: example, About: "memcached", Check: "version", Listens: true, UsualPort: 11211,
		Facts: []string{"address", "host", "port"}, Accounts: []string{"memcache"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "memcached", Program: "memcached", Places: kind.Places("memcached"), Ask: "-V",
	Packages: kind.Packages{Debian: "memcached", Homebrew: "memcached"},
	Version:  lazyregexp.New(`memcached (\d+\.\d+(?:\.\d+)?)`),
}

// Find looks for memcached.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

// Launch starts the server, without UDP.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	memory := in.Service.Settings.(*Settings).Memory
	if memory == 0 {
		memory = defaultMemory
	}
	return kind.Launch{
		Argv: []string{in.Program.Path, "-l", "127.0.0.1", "-p", strconv.Itoa(in.Port), "-U", "0", "-m", strconv.Itoa(memory)},
		Dir:  in.Data, Signal: "TERM",
	}, nil
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.Address(in), nil }

// Probe asks for the version, in memcached's text protocol.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		c := memcache.New("127.0.0.1:" + strconv.Itoa(in.Port))
		defer c.Close()
		if deadline, ok := ctx.Deadline(); ok {
			c.Timeout = time.Until(deadline)
		}
		if err := c.Ping(); err != nil {
			return "", errors.New(probe.Explain(err))
		}
		return "tells its version", nil
	}), nil
}
