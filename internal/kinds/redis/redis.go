// Package redis is the kind of Redis servers.
package redis

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version  declare.Constraint `toml:"version" doc:"which versions will do"`
	Forget   bool               `toml:"forget" doc:"what it holds is gone after a stop; otherwise it is kept on disk"`
	Settings map[string]string  `toml:"settings" doc:"the server's own settings: { maxmemory = \"64mb\" }"`
}

// Check reports settings that are not the declaration's to make.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckSettings(s.Settings, []string{"port", "bind", "dir", "daemonize", "logfile"}, report)
}

const example = `
[service.shelf]
kind = "redis"

[service.api]
run = "node server.js"
env.CACHE_URL = "${shelf.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Machine: true, Name: "redis", Changes: []string{kind.Message}, Takes: true, Packages: finder.Packages, Example: example, About: "Redis", Check: "PING", Listens: true, UsualPort: 6379, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "Redis", Program: "redis-server", Also: "valkey-server", Places: append(kind.Places("redis"), "/opt/homebrew/opt/valkey/bin", "/usr/local/opt/valkey/bin"),
	Packages: kind.Packages{Debian: "redis-server", Homebrew: "redis"},
	Version:  lazyregexp.New(`v=(\d+\.\d+(?:\.\d+)?)`),
}

// Find looks for redis-server, or valkey-server, which is the same to its
// clients.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

// Launch starts the server with everything on its command line, so that no
// configuration file of the machine has a say. Writes are kept at once in an
// append-only file.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	argv := []string{in.Program.Path, "--port", strconv.Itoa(in.Port), "--bind", "127.0.0.1", "--dir", in.Data, "--daemonize", "no", "--logfile", ""}
	if s.Forget {
		argv = append(argv, "--appendonly", "no", "--save", "")
	} else {
		argv = append(argv, "--appendonly", "yes")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Settings)) {
		argv = append(argv, "--"+name)
		argv = append(argv, strings.Fields(s.Settings[name])...)
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "TERM"}, nil
}

// Console returns redis-cli.
func (Kind) Console(in *kind.Instance) ([]string, error) {
	candidates := append(kind.Candidates("redis-cli", finder.Places...), kind.Candidates("valkey-cli", finder.Places...)...)
	if len(candidates) == 0 {
		return nil, &kind.MissingError{Program: "redis-cli", Looked: "PATH", Packages: kind.Packages{Debian: "redis-tools", Homebrew: "redis"}}
	}
	return []string{candidates[0], "-h", "127.0.0.1", "-p", strconv.Itoa(in.Port)}, nil
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	port := strconv.Itoa(in.Port)
	return map[string]kind.Fact{"url": {Value: "redis://127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}, nil
}

// Probe returns a PING.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		s := serverAt(in.Port)
		defer s.Close()
		if _, err := s.do(ctx, "PING"); err != nil {
			return "", err // "LOADING Redis is loading the dataset in memory"
		}
		return "answers PING", nil
	}), nil
}
