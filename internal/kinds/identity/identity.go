// Package identity is the kind of the built-in provider of OpenID Connect.
package identity

import (
	"fmt"
	"net/http"
	"net/mail"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	emulator "neighbour/internal/emulator/identity"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Client is an application that people sign in to.
type Client struct {
	ID        string         `toml:"id" doc:"its client_id"`
	Secret    declare.Text   `toml:"secret" doc:"its client_secret; a client without one must use PKCE"`
	Redirects []declare.Text `toml:"redirects" doc:"where it may have people sent back to: [\"${web.public_url}/back\"]; of addresses on this machine the port may be another"`
	Audience  string         `toml:"audience" doc:"the claim aud of its access tokens; the client's id if it is left out"`
}

// Settings are its keys.
type Settings struct {
	People      []emulator.Person   `toml:"people" doc:"who can sign in: [{ name = \"Ines Brandt\", email = \"ines@example.org\", roles = [\"lender\"] }]; with a password, that is asked for"`
	Clients     []Client            `toml:"clients" doc:"which apps people can sign in to: [{ id = \"web\", secret = \"s3cret\", redirects = [\"${web.public_url}/back\"] }]; left out: any app on this machine"`
	SignUp      bool                `toml:"sign_up" doc:"people can make accounts"`
	Confirm     bool                `toml:"confirm" doc:"whoever makes an account confirms the address, by a link in a mail"`
	Mail        declare.ServiceName `toml:"mail" doc:"the mail service that gets its mails: \"${postbox}\""`
	AccessLife  time.Duration       `toml:"access_life" doc:"how long access tokens hold (1h)"`
	RefreshLife time.Duration       `toml:"refresh_life" doc:"how long a sign-in can be gone on with (720h)"`
	Misbehave   misbehave.Rules     `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// ServiceKeys returns the keys that name a service.
func (s *Settings) ServiceKeys() map[string]string { return map[string]string{"mail": "mail"} }

// noRules are the rules of misbehaviour that mean nothing here.
var noRules = []string{"full", "read_only"}

// Check reports what can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	ids := map[string]string{}
	for i, p := range s.People {
		key := fmt.Sprintf("people[%d]", i)
		if p.Name == "" {
			report(key+".name", "there is no name", `write name = "Ines Brandt"`)
		}
		if a, err := mail.ParseAddress(p.Email); err != nil || a.Address != p.Email {
			report(key+".email", fmt.Sprintf("%q is no address of mail", p.Email), `write email = "ines@example.org"`)
			continue
		}
		if other, twice := ids[p.ID()]; twice {
			report(key+".email", p.Email+" is there twice: "+other+" has it, too", "give each person an address")
		}
		ids[p.ID()] = p.Name
	}
	var clients []string
	for i, c := range s.Clients {
		key := fmt.Sprintf("clients[%d]", i)
		if c.ID == "" {
			report(key+".id", "there is no id", `write id = "web"`)
		} else if slices.Contains(clients, c.ID) {
			report(key+".id", strconv.Quote(c.ID)+" is there twice", "")
		}
		clients = append(clients, c.ID)
		for j, r := range c.Redirects {
			if u, err := url.Parse(r.Value); !strings.Contains(r.Value, "${") && (err != nil || u.Scheme == "" || strings.Contains(r.Value, "#")) {
				report(fmt.Sprintf("%s.redirects[%d]", key, j), fmt.Sprintf("%q is no address to send people back to", r.Value), `write a whole one, without #: "http://localhost:4100/back"`)
			}
		}
	}
	if s.Confirm && s.Mail.Name == "" {
		report("confirm", "addresses are confirmed by mails, and there is nowhere to send them", `add mail = "${postbox}", a service of kind mail`)
	}
	for key, d := range map[string]time.Duration{"access_life": s.AccessLife, "refresh_life": s.RefreshLife} {
		if d < 0 || d > 0 && d < time.Second {
			report(key, fmt.Sprintf("%v is too short for a token", d), "write at least 1s")
		}
	}
	kind.CheckMisbehave(s.Misbehave, report, noRules...)
}

const example = `
[service.door]
kind = "identity"
people = [
  { name = "Ines Brandt", email = "ines@example.org", roles = ["lender"] },
  { name = "Tom Okafor", email = "tom@example.org", password = "hammer drill" },
]

[service.api]
run = "node server.js"
env.OIDC_ISSUER = "${door.url}"
env.OIDC_CLIENT_ID = "${door.client_id}"
env.OIDC_CLIENT_SECRET = "${door.client_secret}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "identity", Example: example, Begin: `people = [{ name = "Ines Brandt", email = "ines@example.org", roles = ["lender"] }]`, About: "sign-in, built in", Check: "HTTP", Listens: true, UsualPort: 4145, HTTP: true, Aside: true, Facts: []string{"url", "host", "port", "client_id", "client_secret"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find returns this program itself.
func (Kind) Find(in *kind.Instance) (kind.Program, error) { return kind.Program{Path: in.Self}, nil }

// config returns what the provider is made of.
func config(in *kind.Instance) (emulator.Config, error) {
	s := in.Service.Settings.(*Settings)
	c := emulator.Config{People: s.People, SignUp: s.SignUp, Confirm: s.Confirm, AccessLife: s.AccessLife, RefreshLife: s.RefreshLife, Names: in.Hosts, Sender: "sign-in@" + in.Service.Name + ".example.org"}
	for _, d := range s.Clients {
		own := emulator.Client{ID: d.ID, Audience: d.Audience}
		secret, err := in.Expand(d.Secret.Value)
		if err != nil {
			return c, err
		}
		own.Secret = secret.Value
		for _, r := range d.Redirects {
			to, err := in.Expand(r.Value)
			if err != nil {
				return c, err
			}
			own.Redirects = append(own.Redirects, to.Value)
		}
		c.Clients = append(c.Clients, own)
	}
	if len(s.Clients) == 0 {
		var err error
		if c.Secret, err = in.Secret("client_secret"); err != nil {
			return c, err
		}
	}
	if s.Mail.Name != "" {
		facts, err := in.FactsOf(s.Mail.Name)
		if err != nil {
			return c, err
		}
		c.SMTP = facts["host"].Value + ":" + facts["port"].Value
	}
	return c, nil
}

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	c, err := config(in)
	if err != nil {
		return kind.Launch{}, err
	}
	return kind.EmulateConfigured(in, "identity", in.Service.Settings.(*Settings).Misbehave, c, "--dir", in.Data)
}

func address(in *kind.Instance) string { return "http://127.0.0.1:" + strconv.Itoa(in.Port) }

// anyClient is the id of the client that apps are told of where none is declared.
const anyClient = "app"

// Facts returns its address, which is the issuer's, and a client's credentials.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	id, s := anyClient, in.Service.Settings.(*Settings)
	secret, err := in.Secret("client_secret")
	if err != nil {
		return nil, err
	}
	if len(s.Clients) > 0 {
		declared, err := in.Expand(s.Clients[0].Secret.Value)
		if err != nil {
			return nil, err
		}
		id, secret = s.Clients[0].ID, declared.Value
	}
	return map[string]kind.Fact{"url": {Value: address(in)}, "host": {Value: "127.0.0.1"}, "port": {Value: strconv.Itoa(in.Port)}, "client_id": {Value: id}, "client_secret": {Value: secret, Secret: true}}, nil
}

// Probe asks whether it is ready.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.HTTP{URLs: []string{address(in) + emulator.ReadyPath}, Status: http.StatusNoContent}, nil
}

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "sign-in", Name: "identity",
		Libraries: []string{"openid-client", "oidc-client-ts", "next-auth", "@auth/core", "passport-openidconnect", "github.com/coreos/go-oidc/v3", "authlib", "mozilla-django-oidc", "jumbojett/openid-connect-php", "omniauth_openid_connect"},
		Words:     []string{"OIDC", "OPENID", "ISSUER"},
		Variable:  "OIDC_ISSUER", Address: "url",
		Web:    true,
		Beside: map[string]string{"CLIENT_ID": "client_id", "CLIENT_SECRET": "client_secret"},
	}
}
