// Package catalogue lists all kinds. A new kind is a package of its own and
// one line here.
package catalogue

import (
	"slices"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/apache"
	"neighbour/internal/core/kind/beanstalkd"
	"neighbour/internal/core/kind/borrowed"
	"neighbour/internal/core/kind/documents"
	"neighbour/internal/core/kind/functions"
	"neighbour/internal/core/kind/identity"
	"neighbour/internal/core/kind/mail"
	"neighbour/internal/core/kind/mariadb"
	"neighbour/internal/core/kind/memcached"
	"neighbour/internal/core/kind/mqtt"
	"neighbour/internal/core/kind/nats"
	"neighbour/internal/core/kind/nginx"
	"neighbour/internal/core/kind/objects"
	"neighbour/internal/core/kind/outside"
	"neighbour/internal/core/kind/php"
	"neighbour/internal/core/kind/postgres"
	"neighbour/internal/core/kind/program"
	"neighbour/internal/core/kind/rabbitmq"
	"neighbour/internal/core/kind/redis"
	"neighbour/internal/core/kind/sqlite"
	"neighbour/internal/core/kind/static"
	"neighbour/internal/core/kind/stub"
)

// Catalogue is a list of kinds. It is a declare.Catalogue.
type Catalogue []kind.Kind

// All is every kind there is.
var All = Catalogue{
	program.Kind{},
	postgres.Kind{},
	mariadb.New(),
	mariadb.NewMySQL(),
	sqlite.Kind{},
	redis.Kind{},
	memcached.Kind{},
	rabbitmq.Kind{},
	nats.Kind{},
	mqtt.Kind{},
	beanstalkd.Kind{},
	documents.Kind{},
	objects.Kind{},
	mail.Kind{},
	identity.Kind{},
	functions.Kind{},
	stub.Kind{},
	nginx.New(),
	apache.New(),
	php.Kind{},
	static.Kind{},
	borrowed.Kind{},
	outside.Kind{},
}

// Kinds lists the names, sorted.
func (c Catalogue) Kinds() []string {
	names := make([]string, len(c))
	for i, k := range c {
		names[i] = k.Info().Name
	}
	slices.Sort(names)
	return names
}

// Kind finds a kind by its name, or returns nil.
func (c Catalogue) Kind(name string) kind.Kind {
	for _, k := range c {
		if k.Info().Name == name {
			return k
		}
	}
	return nil
}

// Describe tells the declaration about a kind.
func (c Catalogue) Describe(name string) (declare.KindInfo, bool) {
	k := c.Kind(name)
	if k == nil {
		return declare.KindInfo{}, false
	}
	info := k.Info()
	var check func(string) error
	if m, ok := k.(kind.Masker); ok {
		check = m.CheckMask
	}
	return declare.KindInfo{Settings: k.Settings, Facts: info.Facts, Listens: info.Listens, Elsewhere: info.Elsewhere, Checked: info.Check != "", AnyFact: info.AnyFact, NoPort: info.NoProcess, HTTP: info.HTTP, Changes: info.Changes, ChangesByKey: info.ChangesByKey, Takes: info.Takes, CheckMask: check}, true
}

// Installed looks for the newest program of a kind, without any service. The
// kinds that bring their own, and those of the user's programs, have nothing
// to look for: a zero Program.
func Installed(k kind.Kind) (kind.Program, error) {
	info := k.Info()
	if info.Packages == (kind.Packages{}) {
		return kind.Program{}, nil
	}
	return k.Find(&kind.Instance{Service: &declare.Service{Kind: info.Name, Settings: k.Settings()}, Data: "/nonexistent"})
}
