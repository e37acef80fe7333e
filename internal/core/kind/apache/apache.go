// Package apache is the kind of Apache web servers.
package apache

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"text/template"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
	"neighbour/internal/core/proc"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys, the same as nginx's.
type Settings struct {
	Version declare.Constraint  `toml:"version" doc:"which versions will do"`
	Root    string              `toml:"root" doc:"the web root: the folder whose files are served; .htaccess files in it count"`
	PHP     declare.ServiceName `toml:"php" doc:"a php service that makes the pages: addresses that are no file's go to index.php"`
	Proxy   declare.ServiceName `toml:"proxy" doc:"a service that gets all requests that no file answers"`
	Extra   string              `toml:"extra" doc:"more of Apache's own configuration"`
}

// ServiceKeys are the keys that name a service.
func (s *Settings) ServiceKeys() map[string]string { return kind.WebServiceKeys }

// Check reports a server with nothing to serve.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckWeb(s.Root, s.PHP, s.Proxy, report)
}

const example = `
[service.engine]
kind = "php"

[service.site]
kind = "apache"
root = "public"
php = "${engine}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "apache", Packages: finder.Packages, Example: example, About: "Apache", Check: "connection to its port", Listens: true, UsualPort: 8080, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "Apache", Program: "apache2", Places: kind.Places("httpd"), Ask: "-v",
	Packages: kind.Packages{Debian: "apache2", Homebrew: "httpd"},
	Version:  regexp.MustCompile(`Apache/(\d+\.\d+\.\d+)`),
}

// Find looks for Apache, and for the web root.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s := in.Service.Settings.(*Settings)
	if err := kind.CheckWebRoot(in, s.Root); err != nil {
		return kind.Program{}, err
	}
	return finder.Find(s.Version)
}

//go:embed apache.conf
var text string

var configuration = template.Must(template.New("apache.conf").Funcs(template.FuncMap{"quote": quote}).Parse(text))

// quote makes a text one word of Apache's configuration.
func quote(s string) string { return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"` }

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

func config(in *kind.Instance) string { return filepath.Join(in.Run, "apache.conf") }

// Prepare writes the configuration, and has Apache check it: its own message
// is shown if it refuses.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, _ func(string)) error {
	s := in.Service.Settings.(*Settings)
	dir, err := modules()
	if err != nil {
		return err
	}
	values := map[string]any{"Root": kind.WebRoot(in, s.Root), "Port": in.Port, "Run": in.Run, "Modules": dir, "Load": loaded, "Extra": s.Extra}
	if os.Getuid() == 0 { // it refuses to serve as root
		account, err := proc.FindAccount("www-data")
		if err != nil {
			return err
		}
		values["User"], values["Group"] = account.UID, account.GID
	}
	for key, name := range map[string]string{"PHP": s.PHP.Name, "Proxy": s.Proxy.Name} {
		if values[key], err = kind.WebAddress(in, name); err != nil {
			return err
		}
	}
	var b strings.Builder
	if err := configuration.Execute(&b, values); err != nil {
		return err
	}
	if err := os.WriteFile(config(in), []byte(b.String()), 0o600); err != nil {
		return err
	}
	if out, err := in.Command(ctx, in.Program.Path, "-t", "-f", config(in)).CombinedOutput(); err != nil {
		return fmt.Errorf("its configuration is refused; what is not generated comes from extra\n%s", strings.TrimSpace(string(out)))
	}
	return nil
}

// Launch starts the server in the foreground.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{Argv: []string{in.Program.Path, "-D", "FOREGROUND", "-f", config(in)}, Dir: in.Root, Signal: "TERM"}, nil
}

// Facts are its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "http"), nil }

// Probe is a connection: whatever the page answers is the app's concern.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.TCP("127.0.0.1:" + strconv.Itoa(in.Port)), nil
}
