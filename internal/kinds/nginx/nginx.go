// Package nginx is the kind of nginx web servers.
package nginx

import (
	"context"
	_ "embed"
	"os"
	"strings"
	"sync"
	"text/template"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/kinds/webserver"
)

// Kind is the kind.
type Kind struct{ webserver.Server }

const example = `
[service.engine]
kind = "php"

[service.site]
kind = "nginx"
root = "public"
php = "${engine}"
`

// New makes the kind.
func New() Kind {
	return Kind{webserver.Server{
		Describes: kind.Info{Name: "nginx", NoData: true, About: "nginx", Example: example},
		Finder: kind.Finder{
			Title: "nginx", Program: "nginx", Places: kind.Places("nginx"), Ask: "-v",
			Packages: kind.Packages{Debian: "nginx-light", Homebrew: "nginx"},
			Version:  lazyregexp.New(`nginx/(\d+\.\d+\.\d+)`),
		},
	}}
}

//go:embed nginx.conf
var text string

var configuration = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("nginx.conf").Funcs(template.FuncMap{"quote": quote, "quoteVariable": quoteVariable}).Parse(text))
})

// quote makes a text one word of nginx's configuration, where that knows no variables.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// quoteVariable makes a text one word where it does: a dollar can't be escaped, and so is the
// value of a variable.
func quoteVariable(s string) string { return strings.ReplaceAll(quote(s), "$", "${dollar}") }

// Prepare writes the configuration, and has nginx check it.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, _ func(string)) error {
	return webserver.Write(ctx, in, configuration(), map[string]any{"AsRoot": os.Getuid() == 0}, "-t", "-q", "-c", webserver.Config(in))
}

// Launch starts the server in the foreground.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{Argv: []string{in.Program.Path, "-c", webserver.Config(in), "-g", "daemon off;"}, Dir: in.Root, Signal: "TERM"}, nil
}
