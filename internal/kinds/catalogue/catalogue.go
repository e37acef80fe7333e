// Package catalogue lists all kinds. A new kind is a package of its own and
// one line here.
package catalogue

import (
	"neighbour/internal/core/kind"
	"neighbour/internal/kinds/apache"
	"neighbour/internal/kinds/beanstalkd"
	"neighbour/internal/kinds/borrowed"
	"neighbour/internal/kinds/custom"
	"neighbour/internal/kinds/documents"
	"neighbour/internal/kinds/functions"
	"neighbour/internal/kinds/identity"
	"neighbour/internal/kinds/mail"
	"neighbour/internal/kinds/mariadb"
	"neighbour/internal/kinds/memcached"
	"neighbour/internal/kinds/mqtt"
	"neighbour/internal/kinds/nats"
	"neighbour/internal/kinds/nginx"
	"neighbour/internal/kinds/objects"
	"neighbour/internal/kinds/outside"
	"neighbour/internal/kinds/php"
	"neighbour/internal/kinds/postgres"
	"neighbour/internal/kinds/program"
	"neighbour/internal/kinds/rabbitmq"
	"neighbour/internal/kinds/redis"
	"neighbour/internal/kinds/sqlite"
	"neighbour/internal/kinds/static"
	"neighbour/internal/kinds/stub"
)

// All is every kind there is.
var All = kind.Catalogue{
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

// Projects know the kinds by this list alone; whatever imports it hands it to them.
func init() { kind.Register(All, custom.New) }
