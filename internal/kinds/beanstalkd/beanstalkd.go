// Package beanstalkd is the kind of beanstalkd work queues.
package beanstalkd

import (
	"net"
	"strconv"

	"github.com/beanstalkd/go-beanstalk"

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
	Forget  bool               `toml:"forget" doc:"jobs are gone after a stop; otherwise a binlog keeps them"`
}

const example = `
[service.jobs]
kind = "beanstalkd"

[service.worker]
run = "node worker.js"
env.QUEUE = "${jobs.address}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "beanstalkd", Changes: []string{kind.Message}, Takes: true, Packages: finder.Packages, Example: example, About: "beanstalkd", Check: "stats", Listens: true, UsualPort: 11300, Facts: []string{"address", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "beanstalkd", Program: "beanstalkd", Places: kind.Places("beanstalkd"), Ask: "-v",
	Packages: kind.Packages{Debian: "beanstalkd", Homebrew: "beanstalkd"},
	Version:  lazyregexp.New(`beanstalkd (\d+\.\d+(?:\.\d+)?)`),
}

// Find looks for beanstalkd.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

// Launch starts the server, with its jobs in the data folder.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "-l", "127.0.0.1", "-p", strconv.Itoa(in.Port)}
	if !in.Service.Settings.(*Settings).Forget {
		argv = append(argv, "-b", in.Data)
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "TERM"}, nil
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.Address(in), nil }

// Probe asks for its statistics.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Talk("127.0.0.1:"+strconv.Itoa(in.Port), func(conn net.Conn) (string, error) {
		c := beanstalk.NewConn(conn)
		if _, err := c.Stats(); err != nil {
			return "", err
		}
		return "tells its statistics", nil
	}), nil
}
