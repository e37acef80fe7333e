// Package webserver is what the kinds of web servers share: their keys, the
// web root, and the services that they pass requests to.
package webserver

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"text/template"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/webroot"
)

// Settings are the keys of a web server.
type Settings struct {
	Version declare.Constraint  `toml:"version" doc:"which versions will do"`
	Root    string              `toml:"root" doc:"the web root: the folder whose files are served"`
	PHP     declare.ServiceName `toml:"php" doc:"a php service that makes the pages: addresses that are no file's go to index.php"`
	Proxy   declare.ServiceName `toml:"proxy" doc:"a service that gets all requests that no file answers"`
	Extra   declare.Word        `toml:"extra" doc:"more of the server's own configuration"`
}

// ServiceKeys returns the keys that name a service.
func (s *Settings) ServiceKeys() map[string]string {
	return map[string]string{"php": "php", "proxy": ""}
}

// Check reports a server with nothing to serve, or with too much.
func (s *Settings) Check(report func(key, message, remedy string)) {
	switch {
	case s.Root == "" && s.Proxy.Name == "":
		report("root", "there is nothing to serve", `add root = "public", or proxy = "${api}"`)
	case s.PHP.Name != "" && s.Root == "":
		report("root", "PHP needs the folder that its files are in", `add root = "public"`)
	case s.PHP.Name != "" && s.Proxy.Name != "":
		report("proxy", "php and proxy both want what no file answers", "keep one of them")
	}
}

// Server is a kind of web server as far as all are alike; each kind embeds
// its own.
type Server struct {
	Describes kind.Info // what differs from server to server
	Finder    kind.Finder
}

// Info describes the kind.
func (s Server) Info() kind.Info {
	info := s.Describes
	info.Packages, info.Begin = s.Finder.Packages, `root = "public"`
	info.Check, info.Listens, info.HTTP, info.UsualPort, info.Facts = "HTTP", true, true, 8080, []string{"url", "host", "port"}
	return info
}

// Settings makes empty settings.
func (Server) Settings() any { return &Settings{} }

// Find looks for the server, and for the web root.
func (s Server) Find(in *kind.Instance) (kind.Program, error) {
	settings := in.Service.Settings.(*Settings)
	if r, ok := root(in); ok {
		if err := r.Check(); err != nil {
			return kind.Program{}, err
		}
	}
	return s.Finder.Find(settings.Version)
}

// Facts returns its address.
func (Server) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	return kind.URL(in, "http"), nil
}

// ReadyPath is a page of the server's own: what the app's pages answer is the
// app's concern, and their log is not to be filled by checks.
const ReadyPath = "/.well-known/neighbour/ready"

// Type is a content type with the endings of the files that have it.
type Type struct {
	Type    string
	Endings []string
}

// Types are the content types that all kinds of web servers send alike.
var Types = []Type{
	{"text/html", []string{"html", "htm"}}, {"text/css", []string{"css"}}, {"text/javascript", []string{"js", "mjs"}},
	{"application/json", []string{"json", "map"}}, {"application/xml", []string{"xml"}}, {"text/plain", []string{"txt", "md"}}, {"text/csv", []string{"csv"}},
	{"image/svg+xml", []string{"svg"}}, {"image/png", []string{"png"}}, {"image/jpeg", []string{"jpg", "jpeg"}}, {"image/gif", []string{"gif"}},
	{"image/webp", []string{"webp"}}, {"image/avif", []string{"avif"}}, {"image/x-icon", []string{"ico"}},
	{"font/woff", []string{"woff"}}, {"font/woff2", []string{"woff2"}}, {"font/ttf", []string{"ttf"}},
	{"application/pdf", []string{"pdf"}}, {"application/wasm", []string{"wasm"}}, {"application/zip", []string{"zip"}},
	{"video/mp4", []string{"mp4"}}, {"video/webm", []string{"webm"}}, {"audio/mpeg", []string{"mp3"}}, {"application/manifest+json", []string{"webmanifest"}},
}

// Probe asks for that page.
func (Server) Probe(in *kind.Instance) (probe.Probe, error) { return Probe(in), nil }

// Probe asks a web server for the page that says that it is ready.
func Probe(in *kind.Instance) probe.Probe {
	return probe.HTTP{URLs: []string{"http://127.0.0.1:" + strconv.Itoa(in.Port) + ReadyPath}, Status: http.StatusNoContent}
}

func rootOf(in *kind.Instance) string {
	root := in.Service.Settings.(*Settings).Root
	if root == "" || filepath.IsAbs(root) {
		return root
	}
	return filepath.Join(in.Root, root)
}

// Config returns the path of the generated configuration.
func Config(in *kind.Instance) string { return filepath.Join(in.Run, "server.conf") }

// Write generates the configuration from a template, which gets the values
// Root, Port, Run, PHP, Proxy and Extra beside more, and has the server check
// it with the arguments test: its own message is shown if it refuses.
func Write(ctx context.Context, in *kind.Instance, t *template.Template, more map[string]any, test ...string) error {
	s := in.Service.Settings.(*Settings)
	if err := kind.CheckPaths("a web server", []string{"${"}, in.Run, rootOf(in)); err != nil {
		return err
	}
	values := map[string]any{"Root": rootOf(in), "Port": in.Port, "Run": in.Run, "Extra": s.Extra.Value, "Ready": ReadyPath, "Hidden": webroot.PCRE, "Types": Types}
	for key, name := range map[string]string{"PHP": s.PHP.Name, "Proxy": s.Proxy.Name} {
		if name == "" {
			continue
		}
		facts, err := in.FactsOf(name)
		if err != nil {
			return err
		}
		values[key] = facts["host"].Value + ":" + facts["port"].Value
	}
	for key, v := range more {
		values[key] = v
	}
	var b strings.Builder
	if err := t.Execute(&b, values); err != nil {
		return err
	}
	if _, err := in.WriteRun(filepath.Base(Config(in)), b.String(), false); err != nil {
		return err
	}
	if out, err := in.Command(ctx, in.Program.Path, test...).CombinedOutput(); err != nil {
		return refused(b.String(), string(out), s.Extra)
	}
	return nil
}

// inConfig finds the line of the generated configuration that a server's
// message is about: nginx writes "in server.conf:12", Apache "line 12 of
// server.conf".
var inConfig = lazyregexp.New(`server\.conf:(\d+)|line (\d+) of \S*server\.conf`)

// refused returns a server's refusal of its configuration, with the line of the
// declaration where that is what it is about.
func refused(config, said string, extra declare.Word) error {
	err := fmt.Errorf("its configuration is refused; what is not generated comes from extra\n%s", strings.TrimSpace(said))
	m := inConfig.FindStringSubmatch(said)
	before, _, found := strings.Cut(config, extra.Value)
	if m == nil || extra.Value == "" || !found {
		return err
	}
	line, _ := strconv.Atoi(m[1] + m[2])
	at := line - 1 - strings.Count(before, "\n")
	lines := strings.Split(extra.Value, "\n")
	if at < 0 || at >= len(lines) {
		return err
	}
	return &kind.RefusedError{Err: err, At: extra.LineAt(at), Text: strings.TrimSpace(lines[at])}
}
