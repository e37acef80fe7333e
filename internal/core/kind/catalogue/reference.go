package catalogue

import (
	"fmt"
	"reflect"
	"strings"

	"neighbour/internal/core/declare"
)

// Reference writes docs/KINDS.md: each kind with its keys, facts, packages
// and an example.
func Reference() string {
	var b strings.Builder
	b.WriteString("# The kinds\n\nGenerated from the catalogue; `go test ./internal/core/kind/catalogue -update` writes it anew.\n\nEvery service has these keys, whatever its kind:\n\n")
	b.WriteString(declare.KeyTable(reflect.TypeFor[declare.Service]()))
	b.WriteString("\n`health` has:\n\n" + declare.KeyTable(reflect.TypeFor[declare.Health]()))
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
		if len(info.Facts) > 0 {
			fmt.Fprintf(&b, "Facts: `%s`.\n\n", strings.Join(info.Facts, "`, `"))
		}
		fmt.Fprintf(&b, "```toml\n%s\n```\n", strings.TrimSpace(info.Example))
	}
	return b.String()
}
