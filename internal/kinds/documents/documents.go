// Package documents is the kind of the built-in database of documents.
package documents

import (
	"net"
	"net/url"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	emulator "neighbour/internal/emulator/documents"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Settings are its keys.
type Settings struct {
	Database  string          `toml:"database" doc:"the database of the url; left out: the project's name"`
	Keep      *bool           `toml:"keep" doc:"false: it is empty after each start"`
	Misbehave misbehave.Rules `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// Check reports what can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if strings.ContainsAny(s.Database, "/\\. \"$\x00") || len(s.Database) > 63 {
		report("database", strconv.Quote(s.Database)+" is no name of a database", `use up to 63 letters, digits, - and _`)
	}
	kind.CheckMisbehave(s.Misbehave, report)
}

const example = `
[service.reviews]
kind = "documents"

[service.api]
run = "node server.js"
env.DOCUMENTS_URL = "${reviews.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "documents", Changes: changes, Example: example, About: "documents database, built in", Check: "hello", Listens: true, UsualPort: 27017, Facts: []string{"url", "host", "port", "user", "password", "database"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find returns this program itself.
func (Kind) Find(in *kind.Instance) (kind.Program, error) { return kind.Program{Path: in.Self}, nil }

const user = "app"

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	password, err := in.Secret("password")
	if err != nil {
		return kind.Launch{}, err
	}
	options := []string{"--dir", in.Data, "--user", user}
	if s.Keep != nil && !*s.Keep {
		options = append(options, "--forget")
	}
	l, err := kind.Emulate(in, "documents", s.Misbehave, options...)
	l.Env = []string{emulator.PasswordVariable + "=" + password}
	return l, err
}

// database returns the one that the facts lead to.
func database(in *kind.Instance) string {
	if name := in.Service.Settings.(*Settings).Database; name != "" {
		return name
	}
	name := strings.Map(func(r rune) rune {
		if strings.ContainsRune("/\\. \"$", r) || r < ' ' {
			return '-'
		}
		return r
	}, in.Project)
	if name = name[:min(len(name), 60)]; name == "" {
		return "app"
	}
	return strings.ToValidUTF8(name, "")
}

// Facts returns how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	return map[string]kind.Fact{
		"url":  {Value: address(in, password), Secret: true},
		"host": {Value: "127.0.0.1"}, "port": {Value: strconv.Itoa(in.Port)},
		"user": {Value: user}, "password": {Value: password, Secret: true}, "database": {Value: database(in)},
	}, nil
}

// address is a connection string. The client is told to stay with this server, whatever
// name it is reached by.
func address(in *kind.Instance, password string) string {
	u := url.URL{Scheme: "mongodb", User: url.UserPassword(user, password), Host: "127.0.0.1:" + strconv.Itoa(in.Port), Path: "/" + database(in), RawQuery: "authSource=admin&directConnection=true"}
	return u.String()
}

// connect opens a client, which connects when it is asked.
func connect(in *kind.Instance) (*mongo.Client, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	return mongo.Connect(options.Client().ApplyURI(address(in, password)).SetAppName(emulator.OwnClient).SetMaxPoolSize(2).SetServerSelectionTimeout(selection))
}

// Probe asks for the server's greeting, without a password.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Talk("127.0.0.1:"+strconv.Itoa(in.Port), func(conn net.Conn) (string, error) {
		if err := emulator.Greet(conn); err != nil {
			return "", err
		}
		return "answers hello", nil
	}), nil
}

// Notes tell what it holds, and how it misbehaves.
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	s, err := emulator.ReadSummary(in.Data)
	if err != nil {
		return nil, ""
	}
	out := []string{words.Count(int(s.Documents), "document") + " in " + words.Count(len(s.Collections), "collection")}
	if len(s.Collections) == 0 {
		out = []string{"no documents yet"}
	}
	for i, c := range s.Collections {
		if i == 3 && len(s.Collections) > 4 {
			out = append(out, words.Count(len(s.Collections)-i, "collection")+" more")
			break
		}
		name := c.Collection
		if c.Database != database(in) {
			name = c.Database + "." + name
		}
		out = append(out, words.Count(int(c.Documents), "document")+" in "+name)
	}
	return out, ""
}
