package catalogue

import (
	"fmt"
	"reflect"
	"strings"

	"neighbour/internal/core/declaration/declare"
)

// Reference writes docs/KINDS.md: each kind with its keys, facts, packages
// and an example.
func Reference() string {
	var b strings.Builder
	b.WriteString("# The kinds\n\nGenerated from the catalogue; `go test ./internal/kinds/catalogue -update` writes it anew.\n\nEvery service has these keys, whatever its kind:\n\n")
	b.WriteString(declare.KeyTable(reflect.TypeFor[declare.Service]()))
	b.WriteString("\n`health` has:\n\n" + declare.KeyTable(reflect.TypeFor[declare.Health]()))
	b.WriteString("\nAn entry of `prepare` has:\n\n" + declare.KeyTable(reflect.TypeFor[declare.Preparation]()))
	for _, k := range All {
		info := k.Info()
		fmt.Fprintf(&b, "\n## %s\n\n%s.", info.Name, strings.ToUpper(info.About[:1])+info.About[1:])
		if info.Check != "" {
			fmt.Fprintf(&b, " Checked by: %s.", info.Check)
		}
		if info.UsualPort != 0 && info.Listens {
			fmt.Fprintf(&b, " Usual port: %d.", info.UsualPort)
		}
		if p := info.Packages; p.Debian != "" {
			fmt.Fprintf(&b, " Debian: `%s`; Homebrew: `%s`.", p.Debian, p.Homebrew)
		}
		if len(info.Accounts) > 0 {
			fmt.Fprintf(&b, " Under root it runs as `%s`, or `nobody`.", strings.Join(info.Accounts, "`, `"))
		}
		b.WriteString("\n\n")
		if t := reflect.TypeOf(k.Settings()).Elem(); len(declare.Keys(t)) > 0 {
			b.WriteString(declare.KeyTable(t) + "\n")
		}
		if info.AnyFact {
			b.WriteString("Facts: those that it has there.\n\n")
		}
		if len(info.Facts) > 0 {
			fmt.Fprintf(&b, "Facts: `%s`.\n\n", strings.Join(info.Facts, "`, `"))
		}
		fmt.Fprintf(&b, "```toml\n%s\n```\n", strings.TrimSpace(info.Example))
	}
	b.WriteString(ownKinds + declare.KeyTable(reflect.TypeFor[declare.CustomKind]()) + ownExample)
	b.WriteString(beside + declare.KeyTable(reflect.TypeFor[declare.Errand]()) + "\n`[env]` writes a file of variables that the app itself reads, at each start, between lines of Neighbour's own; the rest of the file stays as it is. It has:\n\n" + declare.KeyTable(reflect.TypeFor[declare.EnvFile]()))
	return b.String()
}

const ownKinds = `
## A kind of your own

What the catalogue doesn't have can be declared: for a project as ` + "`[kind.NAME]`" + ` in its declaration, for all projects of a user the same in ` + "`kinds.toml`" + ` in ` + "`~/.config/neighbour`" + ` (or below ` + "`$XDG_CONFIG_HOME`" + `). The project's goes before the user's. Its services are then declared, started, checked and reached like any other's.

`

const ownExample = `
In its texts stand for what is the service's own: ` + "`${self.name}`, `${self.port}`, `${self.data}` (the folder for what must last), `${self.run}` (the folder for sockets and configuration), `${self.program}`, `${self.version}`, `${self.password}` (made up once, hidden on screens)" + ` and ` + "`${self.KEY}`" + ` for each of ` + "`keys`" + `.

` + "```toml" + `
[kind.finder]
about = "search server"
program = ["finderd", "/opt/finder-*/bin/finderd"]
version = { args = ["--version"], match = 'finderd (\d+\.\d+)' }
packages = { debian = "finder", homebrew = "finder" }
port = 7700
keys = { language = "en" }
prepare = ["finderd init ${self.data}"]
run = "finderd --data ${self.data} --listen 127.0.0.1:${self.port} --language ${self.language}"
env = { FINDER_KEY = "${self.password}" }
health = { http = "/health" }
facts = { url = "http://127.0.0.1:${self.port}", key = "${self.password}" }
console = "finder --url http://127.0.0.1:${self.port}"
data = { tools = "finder list tools --json" }

[service.tools]
kind = "finder"
version = ">=2"
language = "nl"
` + "```" + `
`

const beside = `
## Beside the services

` + "`neighbour.local.toml`" + ` beside the declaration changes it for one machine: its tables are laid over those of the declaration, key by key. It is not to be committed. ` + "`[profile.NAME]`" + ` holds changes of the same form, which count after ` + "`neighbour start --profile NAME`" + ` until everything is stopped:

` + "```toml" + `
[profile.away]
service.tariffs.health = { tcp = "127.0.0.1:7071" }
service.api.env.TARIFF_URL = "http://127.0.0.1:7071"
` + "```" + `

A service that is given another kind there is declared anew; only its ` + "`env`, `needs` and `optional`" + ` stay. A check of another sort takes the place of the one before.

` + "`[errand.NAME]`" + ` declares a one-off command:

`
