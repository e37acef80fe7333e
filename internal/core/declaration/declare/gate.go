package declare

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/localname"
)

// PublicURL is the fact of a service that speaks HTTP which says by which address it is
// reached through the gate.
const PublicURL = "public_url"

// TLSFacts are the facts of a service that ends TLS itself: the files of its certificate, of its
// key, and of the authority's certificate.
var TLSFacts = []string{"tls_cert", "tls_key", "ca"}

// Gate says by which names the project's services are reached.
type Gate struct {
	At        Position
	Off       bool            `toml:"off" doc:"the project is reached by ports only"`
	Names     map[string]Text `toml:"names" doc:"which names lead to which services: { \"toolshed.localhost\" = \"web\", \"*.toolshed.localhost\" = \"web\", \"toolshed.localhost/mail\" = \"${postbox.url}\" }"`
	LAN       bool            `toml:"lan" doc:"others in this machine's network, such as a phone, can open the pages of the front, without TLS"`
	HTTPSOnly bool            `toml:"https_only" doc:"requests by http are sent on to https"`
}

// Targets returns where the declared names lead, by name. Each is a service, or an address
// that may have references.
func (d *Declaration) Targets() map[string]Text {
	if d.Gate == nil {
		return nil
	}
	return d.Gate.Names
}

// anyReference stands for a number or a name in an address.
var anyReference = lazyregexp.New(`\$\{[^}]*\}`)

// Named returns the service that a target of the gate names, "" if it is an address.
func Named(target string) string {
	if strings.Contains(target, "://") || strings.Contains(target, "${") && serviceNameOf(target) == target {
		return ""
	}
	return serviceNameOf(target)
}

func (c *checker) checkGate(g *Gate) {
	seen := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(g.Names)) {
		target := g.Names[name]
		key := "gate.names." + name
		pattern, err := route.Parse(name)
		if err != nil {
			c.report(key, target.At, target.width, err.Error(), `write for example "toolshed.localhost" = "web"`)
			continue
		}
		switch {
		case localname.Public(pattern.Host):
			c.report(key, target.At, target.width, fmt.Sprintf("%q may be a server of the web, which programs here could not reach any more, and whose cookies the browser would send here", pattern.Host), `choose a name below localhost, or one that ends in .test`)
		case pattern.Host == "localhost":
			c.report(key, target.At, target.width, "localhost itself is what every program of this machine is reached by", `choose a name below it: "shop.localhost"`)
		}
		if other, twice := seen[pattern.String()]; twice {
			c.report(key, target.At, target.width, fmt.Sprintf("%q and %q are the same name", other, name), "remove one of them")
		}
		seen[pattern.String()] = name
		if service := Named(target.Value); service != "" {
			if c.exists(key, service, target.At, target.width) {
				c.checkSpeaksHTTP(key, service, target)
			}
			continue
		}
		if strings.HasPrefix(target.Value, "${") {
			continue // the reference is checked with the others
		}
		u, err := url.Parse(anyReference.ReplaceAllString(target.Value, "1")) // the reference itself is checked with the others
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			c.report(key, target.At, target.width, fmt.Sprintf("%q is no place that a name can lead to", target.Value), `write a service's name, or an address: "web", "${postbox.url}", "http://127.0.0.1:8080"`)
		}
	}
}

func (c *checker) checkSpeaksHTTP(key, name string, target Text) {
	s := c.decl.Service(name)
	info, ok := c.describe(s.Kind)
	if ok && !info.HTTP {
		c.report(key, target.At, target.width, fmt.Sprintf("%s, a service of kind %s, does not speak HTTP", name, s.Kind), "name a service that does; others are reached by their ports")
		return
	}
	s.Listens = s.Listens || !info.NoPort
}
