// Package apache is the kind of Apache web servers.
package apache

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"text/template"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/kinds/webserver"
)

// Kind is the kind. The .htaccess files in its web root count.
type Kind struct{ webserver.Server }

const example = `
[service.engine]
kind = "php"

[service.site]
kind = "apache"
root = "public"
php = "${engine}"
`

// New makes the kind.
func New() Kind {
	return Kind{webserver.Server{
		Describes: kind.Info{Name: "apache", NoData: true, About: "Apache", Example: example},
		Finder: kind.Finder{
			Title: "Apache", Program: "apache2", Places: kind.Places("httpd"), Ask: "-v",
			Packages: kind.Packages{Debian: "apache2", Homebrew: "httpd"},
			Version:  lazyregexp.New(`Apache/(\d+\.\d+\.\d+)`),
		},
	}}
}

//go:embed apache.conf
var text string

var configuration = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("apache.conf").Funcs(template.FuncMap{"quote": quote, "pattern": pattern}).Parse(text))
})

// quote makes a text one word of Apache's configuration.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// pattern makes a path what a section says of a folder: a path, or a pattern that only it
// matches if it looks like one.
func pattern(path string) string {
	if !strings.ContainsAny(path, "*?[") {
		return path
	}
	return strings.NewReplacer(`\`, `\\`, "*", "[*]", "?", "[?]", "[", "[[]").Replace(path)
}

// loaded are the modules. Those that others build on come before them.
var loaded = []string{
	"mpm_event", "unixd", "log_config", "authz_core", "authz_host", "authz_user", "authn_core", "authn_file", "auth_basic",
	"dir", "mime", "alias", "env", "setenvif", "headers", "expires", "filter", "deflate", "negotiation", "autoindex",
	"rewrite", "proxy", "proxy_fcgi", "proxy_http",
}

// modulePlaces are the folders of Apache's modules.
var modulePlaces = []string{"/usr/lib/apache2/modules", "/usr/lib64/httpd/modules", "/opt/homebrew/opt/httpd/lib/httpd/modules", "/usr/local/opt/httpd/lib/httpd/modules"}

func modules() (string, error) {
	for _, dir := range modulePlaces {
		if _, err := os.Stat(filepath.Join(dir, "mod_rewrite.so")); err == nil {
			return dir, nil
		}
	}
	return "", fmt.Errorf("the modules of Apache are not where they are looked for: %s", strings.Join(modulePlaces, ", "))
}

// Prepare writes the configuration, and has Apache check it.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, _ func(string)) error {
	dir, err := modules()
	if err != nil {
		return err
	}
	if s := in.Service.Settings.(*webserver.Settings); s.PHP.Name != "" {
		// It takes what follows in the path of a page for a query.
		if err := kind.CheckPaths("Apache with PHP", []string{"?"}, filepath.Join(in.Root, s.Root)); err != nil {
			return err
		}
	}
	more := map[string]any{"Modules": dir, "Load": loaded}
	if os.Getuid() == 0 { // it refuses to serve as root
		account, err := proc.FindAccount("www-data")
		if err != nil {
			return err
		}
		more["User"], more["Group"] = account.UID, account.GID
	}
	return webserver.Write(ctx, in, configuration(), more, "-t", "-f", webserver.Config(in))
}

// Launch starts the server in the foreground.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{Argv: []string{in.Program.Path, "-D", "FOREGROUND", "-f", webserver.Config(in)}, Dir: in.Root, Signal: "TERM"}, nil
}
