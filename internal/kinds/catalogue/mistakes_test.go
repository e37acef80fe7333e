package catalogue_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
)

// What can be wrong with a kind's own keys, and what is said of it.
func TestMistakesInKindsKeys(t *testing.T) {
	for toml, says := range map[string]string{
		"kind = \"memcached\"\nmemory = -1":                             "-1 is not an amount of memory",
		"kind = \"nats\"\nstreams = { A = [\"a\"] }":                    "streams are kept by JetStream, which is off",
		"kind = \"nats\"\njetstream = true\nstreams = { A = [] }":       "has no subjects",
		"kind = \"mqtt\"\nusers = [\"a\", \"a\"]":                       `"a" is there twice`,
		"kind = \"mqtt\"\nusers = [\"a:b\"]":                            `use 1 to 255 characters, none of them one of :`,
		"kind = \"mariadb\"\ndatabases = [\"a/b\"]":                     `"a/b" can't be a name here`,
		"kind = \"mariadb\"\nsettings = { bind-address = \"0.0.0.0\" }": "Neighbour sees to this setting itself",
		"kind = \"postgres\"\ndatabases = [\"\"]":                       `"" can't be a name here`,
		"kind = \"postgres\"\nextensions = [\"x\"]":                     "there is no database to create them in",
		"kind = \"postgres\"\nsettings = { port = \"1\" }":              "Neighbour sees to this setting itself",
		"kind = \"redis\"\nsettings = { dir = \"/\" }":                  "Neighbour sees to this setting itself",
		"kind = \"redis\"\nsettings = { \"a b\" = \"c\" }":              "can't be a setting",
		"kind = \"rabbitmq\"\nqueues = [\"a\", \"a\"]":                  `"a" is there twice`,
		"kind = \"rabbitmq\"\nvhosts = [\"\"]":                          `"" can't be a name here`,
		"kind = \"beanstalkd\"\nbinlog = true":                          "there is no key \"binlog\"",
		"kind = \"php\"\nini = { \"a[b]\" = \"c\" }":                    "can't be a setting of PHP",
		"kind = \"php\"\nworkers = -2":                                  "must not be negative",
		"kind = \"nginx\"":                                              "there is nothing to serve",
		"kind = \"apache\"\nphp = \"b\"\n[service.b]\nkind = \"php\"":   "there is nothing to serve",
		"kind = \"nginx\"\nproxy = \"b\"\nphp = \"c\"\nroot = \".\"\n[service.b]\nrun = \"x\"\n[service.c]\nkind = \"php\"": "php and proxy both want what no file answers",
		"kind = \"nginx\"\nroot = \".\"\nphp = \"${b}\"\n[service.b]\nkind = \"redis\"":                                     "b is a service of kind redis, and this needs one of kind php",
		"kind = \"nginx\"\nproxy = \"apo\"\n[service.api]\nrun = \"x\"":                                                     `did you mean "api"?`,
		"kind = \"nginx\"\nroot = \".\"\nport = 8080\n[service.b]\nkind = \"nginx\"\nroot = \".\"\nport = 8080":             "service.b.port: a has port 8080 already",
		"kind = \"static\"": "there is no folder to serve",
		"kind = \"static\"\nroot = \".\"\nfallback = \"../x\"":               "is not a file in the folder",
		"kind = \"objects\"\nbuckets = [\"tools\", \"x\"]":                   "neighbour.toml:3:21: service.a.buckets[1]",
		"kind = \"identity\"\npeople = [{ name = \"Ines\", email = \"x\" }]": "neighbour.toml:3:36: service.a.people[0].email",
		"kind = \"outside\"":                           "no check is declared",
		"kind = \"outside\"\nhealth = { log = \"x\" }": "no check is declared",
	} {
		_, err := declare.Parse([]byte("[service.a]\n"+toml+"\n"), "neighbour.toml", catalogue.All)
		assert.ErrorContains(t, err, says, toml)
	}
}
