package wire

import (
	"net"
	"strings"

	"neighbour/internal/core/machine/localname"
)

// parts are the facts behind the last words of split variables.
var parts = map[string]string{
	"HOST": "host", "HOSTNAME": "host", "SERVER": "host", "PORT": "port", "USER": "user", "USERNAME": "user", "PASSWORD": "password", "PASS": "password", "PWD": "password",
	"DATABASE": "database", "NAME": "database", "DB": "database", "DBNAME": "database", "VHOST": "vhost", "URL": "url", "URI": "url", "DSN": "url", "ADDR": "address", "ADDRESS": "address",
}

// endings are the facts behind last words that belong together, the longest first.
var endings = []struct{ words, part string }{{"_SECRET_ACCESS_KEY", "secret_key"}, {"_ACCESS_KEY_ID", "access_key"}, {"_SECRET_KEY", "secret_key"}, {"_ACCESS_KEY", "access_key"}, {"_REGION", "region"}}

// SplitName returns a variable's name as a prefix and the fact that its last word
// means: DB_HOST, PGHOST.
func SplitName(name string) (prefix, part string, ok bool) {
	if rest, pg := strings.CutPrefix(name, "PG"); pg && parts[rest] != "" {
		return "PG", parts[rest], true
	}
	for _, e := range endings {
		if prefix, is := strings.CutSuffix(name, e.words); is && prefix != "" {
			return prefix, e.part, true
		}
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
	return host == "" || localname.Is(host) || ip != nil && ip.IsUnspecified() || ip == nil && (!strings.Contains(host, ".") || strings.HasSuffix(host, ".internal"))
}
