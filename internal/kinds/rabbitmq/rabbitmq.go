// Package rabbitmq is the kind of RabbitMQ message brokers.
package rabbitmq

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

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
	VHosts  []string           `toml:"vhosts" doc:"virtual hosts to create; the first is the one that url leads to (\"/\")"`
	Users   []string           `toml:"users" doc:"users to create, each with a password of its own and all rights; the first is the one of url (\"app\")"`
	Queues  []string           `toml:"queues" doc:"durable queues to create in the first virtual host"`
}

// Check reports names that can't be.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckNames("vhosts", s.VHosts, 255, "", report)
	kind.CheckNames("users", s.Users, 255, "", report)
	kind.CheckNames("queues", s.Queues, 255, "", report)
}

func (s *Settings) vhosts() []string {
	if len(s.VHosts) == 0 {
		return []string{"/"}
	}
	return s.VHosts
}

// FactNames returns those of the declared users.
func (s *Settings) FactNames() []string { return kind.UserFacts(s.Users) }

func (s *Settings) users() []string {
	if len(s.Users) == 0 {
		return []string{"app"}
	}
	return s.Users
}

const example = `
[service.orders]
kind = "rabbitmq"
queues = ["reminders"]

[service.worker]
run = "node worker.js"
env.AMQP_URL = "${orders.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Machine: true, Name: "rabbitmq", Changes: []string{kind.Message}, Takes: true, Packages: packages, Example: example, About: "RabbitMQ", Check: "AMQP login", Listens: true, UsualPort: 5672,
		Facts: []string{"url", "host", "port", "user", "password", "vhost"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var (
	packages = kind.Packages{Debian: "rabbitmq-server", Homebrew: "rabbitmq"}
	// Debian's wrapper in /usr/sbin changes the user; the server's own
	// script, which is in a folder with the version, doesn't.
	places  = []string{"/usr/lib/rabbitmq/lib/rabbitmq_server-*/sbin", "/opt/homebrew/Cellar/rabbitmq/*/sbin", "/usr/local/Cellar/rabbitmq/*/sbin"}
	version = lazyregexp.New(`(?:rabbitmq_server-|Cellar/rabbitmq/)(\d+\.\d+\.\d+)`)
)

// Find looks for the server's script. Its folder tells the version: asking
// would start a whole Erlang machine.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	var programs []kind.Program
	for _, path := range kind.Candidates("rabbitmq-server", places...) {
		if m := version.FindStringSubmatch(path); m != nil {
			programs = append(programs, kind.Program{Path: path, Version: m[1], Dir: filepath.Dir(path)})
		}
	}
	if len(programs) == 0 {
		return kind.Program{}, &kind.MissingError{Program: "rabbitmq-server", Looked: strings.Join(places, ", "), Packages: packages}
	}
	slices.SortStableFunc(programs, func(a, b kind.Program) int { return kind.CompareVersions(b.Version, a.Version) })
	return kind.Choose("RabbitMQ", programs, in.Service.Settings.(*Settings).Version, "Debian's "+packages.Debian)
}

// Prepare writes the configuration and, as definitions that the server loads
// at each start, the virtual hosts, users and queues.
func (Kind) Prepare(_ context.Context, in *kind.Instance, _ func(string)) error {
	if err := kind.CheckPaths("RabbitMQ", []string{`"`, "'", "`", `\`}, in.Data, in.Run); err != nil {
		return err
	}
	definitions, err := definitionsOf(in)
	if err != nil {
		return err
	}
	secret, err := in.Secret("cookie")
	if err != nil {
		return err
	}
	files := map[string]string{
		cookieFile:         secret,
		"definitions.json": definitions,
		"rabbitmq.conf":    fmt.Sprintf("listeners.tcp.1 = 127.0.0.1:%d\nlog.console = true\nlog.console.level = info\ndisk_free_limit.absolute = 50MB\n", in.Port),
		// A path can stand only where it can be quoted, in a term of Erlang.
		"advanced.config": fmt.Sprintf("%%%% coding: utf-8\n[{rabbit, [{load_definitions, %s}]}].\n", quote(filepath.Join(in.Run, "definitions.json"))),
		"enabled_plugins": "[].\n", "env.conf": "",
	}
	for name, text := range files {
		if _, err := in.WriteRun(name, text, true); err != nil {
			return err
		}
	}
	return nil
}

// quote makes a text one of Erlang.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

func definitionsOf(in *kind.Instance) (string, error) {
	s := in.Service.Settings.(*Settings)
	type entry = map[string]any
	var vhosts, users, permissions []entry
	queues := []entry{} // the server wants a list, also of nothing
	for _, v := range s.vhosts() {
		vhosts = append(vhosts, entry{"name": v})
		for _, u := range s.users() {
			permissions = append(permissions, entry{"user": u, "vhost": v, "configure": ".*", "write": ".*", "read": ".*"})
		}
	}
	for _, u := range s.users() {
		password, err := in.UserPassword(u)
		if err != nil {
			return "", err
		}
		users = append(users, entry{"name": u, "password_hash": hash(password), "hashing_algorithm": "rabbit_password_hashing_sha256", "tags": "administrator"})
	}
	for _, q := range s.Queues {
		queues = append(queues, entry{"name": q, "vhost": s.vhosts()[0], "durable": true, "auto_delete": false, "arguments": entry{}})
	}
	b, err := json.Marshal(entry{"vhosts": vhosts, "users": users, "permissions": permissions, "queues": queues})
	return string(b), err
}

// hash returns RabbitMQ's form of a password: a salt of four bytes, and the SHA-256
// of the salt and the password. The salt is taken from the password itself,
// which is random, so that the definitions stay the same.
func hash(password string) string {
	salt := sha256.Sum256([]byte(password))
	sum := sha256.Sum256(append(salt[:4:4], password...))
	return base64.StdEncoding.EncodeToString(append(salt[:4:4], sum[:]...))
}

// Launch starts the server with an Erlang port mapper of its own, so that
// nothing is shared with another instance on the machine, and nothing of it
// is left after a stop.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	mapper, err := in.ExtraPort("epmd", 24369)
	if err != nil {
		return kind.Launch{}, err
	}
	nodes, err := in.ExtraPort("nodes", 25672)
	if err != nil {
		return kind.Launch{}, err
	}
	run := func(name string) string { return filepath.Join(in.Run, name) }
	return kind.Launch{
		Argv: []string{in.Program.Path}, Dir: in.Data, Signal: "TERM",
		Env: []string{
			"RABBITMQ_NODENAME=" + node(in),
			"RABBITMQ_DIST_PORT=" + strconv.Itoa(nodes),
			"RABBITMQ_MNESIA_BASE=" + filepath.Join(in.Data, "mnesia"), "RABBITMQ_LOG_BASE=" + in.Run, "RABBITMQ_LOGS=-",
			"RABBITMQ_CONFIG_FILE=" + run("rabbitmq.conf"), "RABBITMQ_ADVANCED_CONFIG_FILE=" + run("advanced.config"),
			"RABBITMQ_CONF_ENV_FILE=" + run("env.conf"), "RABBITMQ_ENABLED_PLUGINS_FILE=" + run("enabled_plugins"), "RABBITMQ_PID_FILE=" + run("pid"),
			"RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS=-kernel inet_dist_use_interface {127,0,0,1}",
			// The script becomes the server, so that the pid is the server's.
			"RUNNING_UNDER_SYSTEMD=true",
			"ERL_EPMD_PORT=" + strconv.Itoa(mapper), "ERL_EPMD_ADDRESS=127.0.0.1",
			"HOME=" + in.Run, // where Erlang's cookie is
		},
	}, nil
}

func node(in *kind.Instance) string { return in.Service.Name + "@localhost" }

// cookieFile is where Erlang looks for the secret that nodes and their tools share, in HOME.
const cookieFile = ".erlang.cookie"

// ClientVariables let rabbitmqctl and its like find the node. They leave HOME to whoever calls
// them: what else runs there would write into the server's.
func (Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	secret, err := in.Secret("cookie")
	return map[string]string{
		"RABBITMQ_NODENAME": node(in), "ERL_EPMD_PORT": strconv.Itoa(in.GivenPort("epmd")), "ERL_EPMD_ADDRESS": "127.0.0.1",
		"RABBITMQ_ERLANG_COOKIE": secret, "RABBITMQ_CONF_ENV_FILE": filepath.Join(in.Run, "env.conf"), "PATH": in.Program.Dir + ":" + os.Getenv("PATH"),
	}, err
}

// Console returns a shell in which rabbitmqctl reaches this broker.
func (Kind) Console(in *kind.Instance) ([]string, error) { return []string{"/bin/sh"}, nil }

// Facts returns how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	s := in.Service.Settings.(*Settings)
	user, vhost := s.users()[0], s.vhosts()[0]
	password, err := in.UserPassword(user)
	if err != nil {
		return nil, err
	}
	port := strconv.Itoa(in.Port)
	address := func(user, password string) string {
		u := url.URL{Scheme: "amqp", User: url.UserPassword(user, password), Host: "127.0.0.1:" + port}
		return u.String() + "/" + url.PathEscape(vhost)
	}
	facts := map[string]kind.Fact{
		"url":  {Value: address(user, password), Secret: true},
		"host": {Value: "127.0.0.1"}, "port": {Value: port}, "user": {Value: user}, "password": {Value: password, Secret: true}, "vhost": {Value: vhost},
	}
	return facts, kind.AddUserFacts(in, facts, s.Users, address)
}

// Probe returns a login by AMQP 0-9-1. The server logs each connection, so the
// check keeps its own and asks on it again.
func (k Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	return &check{url: facts["url"].Value}, nil
}

// check is a health check that stays connected between the times that it is
// made. It is a probe.Probe and an io.Closer.
type check struct {
	url string

	mu   sync.Mutex
	conn *amqp.Connection // nil before the first
	line net.Conn         // below it
}

// Check logs in, or opens a channel where that was done before.
func (c *check) Check(ctx context.Context) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conn != nil && !c.conn.IsClosed() {
		// A server that hangs would be waited for until a heartbeat is missed.
		stop := context.AfterFunc(ctx, func() { c.line.Close() })
		channel, err := c.conn.Channel()
		if err == nil {
			err = channel.Close()
		}
		if stop() && err == nil {
			return "answers on its connection", nil
		}
		c.line.Close()
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
	}
	conn, err := amqp.DialConfig(c.url, amqp.Config{Heartbeat: 10 * time.Second, Properties: amqp.Table{"connection_name": "neighbour"}, Dial: func(network, address string) (net.Conn, error) {
		conn, err := new(net.Dialer).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		// The handshake has the time of a check; later there are heartbeats.
		if deadline, ok := ctx.Deadline(); ok {
			_ = conn.SetDeadline(deadline)
		}
		c.line = conn
		return conn, nil
	}})
	var answer *amqp.Error
	switch {
	case errors.As(err, &answer):
		return "", errors.New(answer.Reason)
	case err != nil:
		return "", errors.New(probe.Explain(err))
	}
	c.conn = conn
	return "accepts a login", nil
}

// Close ends the connection.
func (c *check) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conn == nil {
		return nil
	}
	return c.conn.Close()
}
