// Package identity is a provider of OpenID Connect that signs in people who are declared: with
// a click, or with a password. It stands in for the provider of production while an application
// is written and tested.
package identity

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/machine/localname"
)

// Person is somebody who can sign in.
type Person struct {
	Name     string            `json:"name" toml:"name" doc:"the full name"`
	Email    string            `json:"email" toml:"email" doc:"the address, by which the person is told from others"`
	Password string            `json:"password,omitempty" toml:"password" doc:"asked for if it is written; otherwise a click signs in"`
	Roles    []string          `json:"roles,omitempty" toml:"roles" doc:"the claim roles"`
	Claims   map[string]string `json:"claims,omitempty" toml:"claims" doc:"more claims, as texts; one that is JSON, such as \"[1, 2]\", is that"`
	// Subject is the claim sub.
	Subject string `json:"sub,omitempty" toml:"sub" doc:"the claim sub; one is made of the address if it is left out"`
}

// ID returns the claim sub of a person: the one that is declared, or one that stays the same as
// long as the address does.
func (p Person) ID() string {
	if p.Subject != "" {
		return p.Subject
	}
	sum := sha256.Sum256([]byte("person " + strings.ToLower(p.Email)))
	return hex.EncodeToString(sum[:10])
}

// Client is an application that people sign in to.
type Client struct {
	ID        string   `json:"id" toml:"id" doc:"its client_id"`
	Secret    string   `json:"secret,omitempty" toml:"secret" doc:"its client_secret; a client without one must use PKCE"`
	Redirects []string `json:"redirects,omitempty" toml:"redirects" doc:"where it may have people sent back to"`
	Audience  string   `json:"audience,omitempty" toml:"audience" doc:"the claim aud of its access tokens; the client's id if it is left out"`
}

// Config is what a provider is made of.
type Config struct {
	People  []Person `json:"people"`
	Clients []Client `json:"clients,omitempty"`
	// Secret is the client_secret of whoever asks where no clients are declared, if it gives one.
	Secret string `json:"secret,omitempty"`
	// SignUp lets people who aren't declared make an account; Confirm has their address
	// confirmed by a mail.
	SignUp  bool `json:"sign_up,omitempty"`
	Confirm bool `json:"confirm,omitempty"`
	// SMTP is the address (host and port) to send mails to, Sender whose they are.
	SMTP   string `json:"smtp,omitempty"`
	Sender string `json:"sender,omitempty"`
	// How long tokens hold.
	AccessLife  time.Duration `json:"access_life"`
	RefreshLife time.Duration `json:"refresh_life"`
	// Names are the host names by which it is reached, beside localhost and loopback
	// addresses.
	Names []string `json:"names,omitempty"`
}

// How long tokens hold unless it is said otherwise, codes, and sessions.
const (
	AccessLife  = time.Hour
	RefreshLife = 30 * 24 * time.Hour
	codeLife    = time.Minute
	deviceLife  = 10 * time.Minute
	sessionLife = 12 * time.Hour
	linkLife    = time.Hour
)

// answersTo reports whether a Host header is one of the provider's: a page from elsewhere
// could have its name lead here.
func (c *Config) answersTo(host string) bool {
	return localname.Is(host, c.Names...)
}

// client returns a client, and whether it may ask at all: if none are declared, whoever asks
// from this machine is one.
func (c *Config) client(id string) (Client, bool) {
	if id == "" {
		return Client{}, false
	}
	if len(c.Clients) == 0 {
		return Client{ID: id}, true
	}
	i := slices.IndexFunc(c.Clients, func(o Client) bool { return o.ID == id })
	if i < 0 {
		return Client{}, false
	}
	return c.Clients[i], true
}

// allows reports whether people may be sent back to an address. Of addresses on loopback the
// port may be another (RFC 8252, section 7.3).
func (c *Config) allows(client Client, redirect string) bool {
	u, err := url.Parse(redirect)
	if err != nil || u.Scheme == "" || u.Fragment != "" || strings.Contains(redirect, "#") {
		return false
	}
	if len(c.Clients) == 0 {
		return (u.Scheme == "http" || u.Scheme == "https") && c.isLocal(u.Hostname())
	}
	return slices.ContainsFunc(client.Redirects, func(declared string) bool {
		if declared == redirect {
			return true
		}
		d, err := url.Parse(declared)
		if err != nil {
			return false
		}
		ip, err := netip.ParseAddr(d.Hostname())
		if d.Hostname() != "localhost" && (err != nil || !ip.IsLoopback()) {
			return false
		}
		d.Host, u.Host = d.Hostname(), u.Hostname()
		return d.String() == u.String()
	})
}

// declares reports whether an origin is that of a page to which a declared client has people sent
// back.
func (c *Config) declares(origin *url.URL) bool {
	return slices.ContainsFunc(c.Clients, func(o Client) bool {
		return slices.ContainsFunc(o.Redirects, func(redirect string) bool {
			u, err := url.Parse(redirect)
			return err == nil && u.Scheme == origin.Scheme && u.Host == origin.Host
		})
	})
}

// isLocal reports whether a host is this machine, or a name of the project's in the gate: names of
// a network's own (RFC 6762, RFC 8375) may be other machines.
func (c *Config) isLocal(host string) bool { return localname.Is(host, c.Names...) }

// claim returns the value of a declared claim.
func claim(text string) any {
	var v any
	if json.Unmarshal([]byte(text), &v) == nil {
		return v
	}
	return text
}
