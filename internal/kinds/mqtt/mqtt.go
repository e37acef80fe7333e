// Package mqtt is the kind of MQTT brokers, run by mosquitto.
package mqtt

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	client "github.com/eclipse/paho.mqtt.golang"

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
	Users   []string           `toml:"users" doc:"users to create, each with a password of its own; without any, everybody may connect"`
}

// Check reports names that can't be users.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckNames("users", s.Users, 255, ":\n", report)
}

// FactNames returns those of the declared users.
func (s *Settings) FactNames() []string { return kind.UserFacts(s.Users) }

const example = `
[service.sensors]
kind = "mqtt"
users = ["scale"]

[service.reader]
run = "node read.js"
env.MQTT_URL = "${sensors.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "mqtt", AtEnd: true, Changes: []string{kind.Message}, Takes: true, Packages: finder.Packages, Example: example, About: "MQTT, mosquitto", Check: "connect", Listens: true, UsualPort: 1883,
		Facts: []string{"url", "host", "port", "user", "password"}, Accounts: []string{"mosquitto"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "mosquitto", Program: "mosquitto", Places: kind.Places("mosquitto"), Ask: "-h",
	Packages: kind.Packages{Debian: "mosquitto", Homebrew: "mosquitto"},
	Version:  lazyregexp.New(`mosquitto version (\d+\.\d+(?:\.\d+)?)`),
}

// Find looks for mosquitto.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

// Prepare writes the configuration, and the users' passwords as mosquitto
// wants them.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, report func(string)) error {
	if err := kind.CheckPaths("mosquitto", nil, in.Data, in.Run); err != nil {
		return err
	}
	users := in.Service.Settings.(*Settings).Users
	config := fmt.Sprintf("listener %d 127.0.0.1\npersistence true\npersistence_location %s/\nlog_dest stdout\nallow_anonymous %t\n", in.Port, in.Data, len(users) == 0)
	if len(users) > 0 {
		passwords := filepath.Join(in.Run, "passwords")
		var b strings.Builder
		for _, user := range users {
			password, err := in.UserPassword(user)
			if err != nil {
				return err
			}
			fmt.Fprintf(&b, "%s:%s\n", user, password)
		}
		if err := private(in, passwords, b.String()); err != nil {
			return err
		}
		candidates := kind.Candidates("mosquitto_passwd", in.Program.Dir, "/usr/bin", filepath.Join(filepath.Dir(in.Program.Dir), "bin"))
		if len(candidates) == 0 {
			return &kind.MissingError{Program: "mosquitto_passwd", Looked: "PATH, " + in.Program.Dir, Packages: finder.Packages}
		}
		if out, err := in.Command(ctx, candidates[0], "-U", passwords).CombinedOutput(); err != nil {
			return fmt.Errorf("mosquitto_passwd failed: %w\n%s", err, strings.TrimSpace(string(out)))
		}
		config += "password_file " + passwords + "\n"
	}
	return private(in, filepath.Join(in.Run, "mosquitto.conf"), config)
}

// private writes a file that only the server's account can read.
func private(in *kind.Instance, path, text string) error {
	_, err := in.WriteRun(filepath.Base(path), text, true)
	return err
}

// Launch starts the broker with the generated configuration.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{Argv: []string{in.Program.Path, "-c", filepath.Join(in.Run, "mosquitto.conf")}, Dir: in.Data, Signal: "TERM"}, nil
}

// Facts returns its address, and the first user's credentials, which are empty
// where everybody may connect.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	facts := kind.URL(in, "mqtt")
	facts["user"], facts["password"] = kind.Fact{}, kind.Fact{}
	users := in.Service.Settings.(*Settings).Users
	if len(users) == 0 {
		return facts, nil
	}
	password, err := in.UserPassword(users[0])
	if err != nil {
		return nil, err
	}
	address := func(user, password string) string {
		u := url.URL{Scheme: "mqtt", User: url.UserPassword(user, password), Host: "127.0.0.1:" + strconv.Itoa(in.Port)}
		return u.String()
	}
	facts["url"] = kind.Fact{Value: address(users[0], password), Secret: true}
	facts["user"], facts["password"] = kind.Fact{Value: users[0]}, kind.Fact{Value: password, Secret: true}
	return facts, kind.AddUserFacts(in, facts, users, address)
}

// Probe connects and waits for the broker's CONNACK (MQTT 3.1.1, section 3.2).
func (k Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	return probe.Func(func(ctx context.Context) (string, error) {
		timeout := 5 * time.Second
		if deadline, ok := ctx.Deadline(); ok {
			timeout = time.Until(deadline)
		}
		options := client.NewClientOptions().AddBroker("tcp://127.0.0.1:" + strconv.Itoa(in.Port)).SetClientID("neighbour-" + in.Service.Name).
			SetUsername(facts["user"].Value).SetPassword(facts["password"].Value).
			SetConnectTimeout(timeout).SetAutoReconnect(false).SetProtocolVersion(4)
		c := client.NewClient(options)
		defer c.Disconnect(0)
		if t := c.Connect(); !t.WaitTimeout(timeout) {
			return "", context.DeadlineExceeded
		} else if t.Error() != nil {
			return "", errors.New(probe.Explain(t.Error()))
		}
		return "answers a connect", nil
	}), nil
}
