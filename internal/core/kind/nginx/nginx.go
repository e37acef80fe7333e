// Package nginx is the kind of nginx web servers.
package nginx

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
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version declare.Constraint  `toml:"version" doc:"which versions will do"`
	Root    string              `toml:"root" doc:"the web root: the folder whose files are served"`
	PHP     declare.ServiceName `toml:"php" doc:"a php service that makes the pages: addresses that are no file's go to index.php"`
	Proxy   declare.ServiceName `toml:"proxy" doc:"a service that gets all requests that no file answers"`
	Extra   string              `toml:"extra" doc:"more of nginx's own configuration, inside its server block"`
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
kind = "nginx"
root = "public"
php = "${engine}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "nginx", Packages: finder.Packages, Example: example, About: "nginx", Check: "connection to its port", Listens: true, UsualPort: 8080, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "nginx", Program: "nginx", Places: kind.Places("nginx"), Ask: "-v",
	Packages: kind.Packages{Debian: "nginx-light", Homebrew: "nginx"},
	Version:  regexp.MustCompile(`nginx/(\d+\.\d+\.\d+)`),
}

// Find looks for nginx, and for the web root.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s := in.Service.Settings.(*Settings)
	if err := kind.CheckWebRoot(in, s.Root); err != nil {
		return kind.Program{}, err
	}
	return finder.Find(s.Version)
}

//go:embed nginx.conf
var text string

var configuration = template.Must(template.New("nginx.conf").Funcs(template.FuncMap{"quote": quote}).Parse(text))

// quote makes a text one word of nginx's configuration.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`).Replace(s) + `"`
}

func config(in *kind.Instance) string { return filepath.Join(in.Run, "nginx.conf") }

// Prepare writes the configuration, and has nginx check it: its own message
// is shown if it refuses.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, _ func(string)) error {
	s := in.Service.Settings.(*Settings)
	values := map[string]any{"Root": kind.WebRoot(in, s.Root), "Port": in.Port, "Run": in.Run, "AsRoot": os.Getuid() == 0, "Extra": s.Extra}
	for key, name := range map[string]string{"PHP": s.PHP.Name, "Proxy": s.Proxy.Name} {
		address, err := kind.WebAddress(in, name)
		if err != nil {
			return err
		}
		values[key] = address
	}
	var b strings.Builder
	if err := configuration.Execute(&b, values); err != nil {
		return err
	}
	if err := os.WriteFile(config(in), []byte(b.String()), 0o600); err != nil {
		return err
	}
	if out, err := in.Command(ctx, in.Program.Path, "-t", "-q", "-c", config(in)).CombinedOutput(); err != nil {
		return fmt.Errorf("its configuration is refused; what is not generated comes from extra\n%s", strings.TrimSpace(string(out)))
	}
	return nil
}

// Launch starts the server in the foreground.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{Argv: []string{in.Program.Path, "-c", config(in), "-g", "daemon off;"}, Dir: in.Root, Signal: "TERM"}, nil
}

// Facts are its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "http"), nil }

// Probe is a connection: whatever the page answers is the app's concern.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.TCP("127.0.0.1:" + strconv.Itoa(in.Port)), nil
}
