package wire

import (
	"net"
	"strings"
)

// schemes are the kinds of servers by the scheme of their addresses.
var schemes = map[string]string{
	"postgres": "postgres", "postgresql": "postgres", "pgsql": "postgres", "mysql": "mariadb", "mysql2": "mariadb", "mariadb": "mariadb",
	"redis": "redis", "amqp": "rabbitmq", "nats": "nats", "mqtt": "mqtt", "tcp+mqtt": "mqtt", "memcached": "memcached", "memcache": "memcached",
	"beanstalk": "beanstalkd", "beanstalkd": "beanstalkd", "smtp": "mail",
}

// PortKinds are the kinds by the usual port.
var PortKinds = map[string]string{"5432": "postgres", "3306": "mariadb", "6379": "redis", "5672": "rabbitmq", "4222": "nats", "1883": "mqtt", "11211": "memcached", "11300": "beanstalkd", "25": "mail", "587": "mail", "1025": "mail", "2525": "mail"}

// Prefixes are the kinds by the first word of split variables, such as
// REDIS_HOST; "sql" is any database.
var Prefixes = map[string]string{
	"PG": "postgres", "POSTGRES": "postgres", "POSTGRESQL": "postgres", "MYSQL": "mariadb", "MARIADB": "mariadb", "REDIS": "redis", "RABBITMQ": "rabbitmq", "AMQP": "rabbitmq",
	"NATS": "nats", "MQTT": "mqtt", "MEMCACHED": "memcached", "MEMCACHE": "memcached", "BEANSTALKD": "beanstalkd", "BEANSTALK": "beanstalkd", "SMTP": "mail", "MAIL": "mail", "EMAIL": "mail", "MAILER": "mail",
	"DB": "sql", "DATABASE": "sql", "SQL": "sql",
}

// Purposes are the kinds that words in the names of variables may mean, which
// say what a server is for and not which one it is.
var Purposes = map[string][]string{"CACHE": {"redis", "memcached"}, "SESSION": {"redis", "memcached"}, "QUEUE": {"rabbitmq", "redis", "beanstalkd"}, "BROKER": {"rabbitmq", "redis", "nats", "mqtt"}}

// parts are the facts behind the last words of split variables.
var parts = map[string]string{
	"HOST": "host", "HOSTNAME": "host", "SERVER": "host", "PORT": "port", "USER": "user", "USERNAME": "user", "PASSWORD": "password", "PASS": "password", "PWD": "password",
	"DATABASE": "database", "NAME": "database", "DB": "database", "DBNAME": "database", "VHOST": "vhost", "URL": "url", "URI": "url", "DSN": "url", "ADDR": "address", "ADDRESS": "address",
}

// SplitName returns a variable's name as a prefix and the fact that its last word
// means: DB_HOST, PGHOST.
func SplitName(name string) (prefix, part string, ok bool) {
	if rest, pg := strings.CutPrefix(name, "PG"); pg && parts[rest] != "" {
		return "PG", parts[rest], true
	}
	i := strings.LastIndexByte(name, '_')
	if i < 0 {
		return "", "", false
	}
	part, ok = parts[name[i+1:]]
	return name[:i], part, ok
}

// Local reports whether a host is this machine, or a name of the kind that only
// means something next to it.
func Local(host string) bool {
	ip := net.ParseIP(host)
	return host == "" || ip != nil && (ip.IsLoopback() || ip.IsUnspecified()) || ip == nil && (!strings.Contains(host, ".") || strings.HasSuffix(host, ".localhost") || strings.HasSuffix(host, ".internal"))
}

// KindOfScheme returns the kind of server that an address with this scheme leads
// to; "" if none is known. A driver may be named behind a plus.
func KindOfScheme(scheme string) string {
	scheme, _, _ = strings.Cut(scheme, "+")
	return schemes[scheme]
}
